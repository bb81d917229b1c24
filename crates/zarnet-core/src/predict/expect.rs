//! Expectations held against what becomes of their flows.

use super::{Followed, ObservationPoint, Rehearsal};
use crate::net::Endpoint;
use crate::network::Receiver;
use crate::plan::{EndSet, Expectation, SeenBy, Viewpoint};
use crate::reason::{Class, Reason};

/// A part of an expectation that does not hold.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Failed {
    /// The flow was to be delivered and answered.
    NotAnswered,
    /// It was to be refused, or not to be.
    Refused(bool),
    /// It was to come to no answer, or to one.
    Unreachable(bool),
    /// It was to end for another reason, or at all.
    Reason(Reason),
    /// The source arrived as another, or not at all.
    Becomes(Option<Endpoint>),
    /// It ended up elsewhere, or nowhere.
    Reaches(Option<Endpoint>),
    /// Something else was seen at a place, or nothing: the position of the view, and the ends that
    /// differ.
    SeenBy(usize, Option<(Endpoint, Endpoint)>),
}

/// An expectation and what came of it.
#[derive(Debug, Clone)]
pub struct Tried {
    /// What became of the flow.
    pub followed: Followed,
    /// What does not hold.
    pub failed: Vec<Failed>,
}

impl Rehearsal {
    /// Follows the flow of an expectation and holds the result against it.
    pub fn expect(&mut self, wanted: &Expectation) -> Tried {
        let followed = self.follow(&wanted.flow);
        let failed = failures(&followed, wanted);
        Tried { followed, failed }
    }
}

/// What an expectation says that is not so of a followed flow.
pub fn failures(followed: &Followed, wanted: &Expectation) -> Vec<Failed> {
    let mut failed = Vec::new();
    let Expectation { refused, unreachable, reason, .. } = wanted;
    let answered = followed.answered();
    let only_good_news = refused.is_none() && unreachable.is_none() && reason.is_none();
    if only_good_news && !answered {
        failed.push(Failed::NotAnswered);
    }
    failed
        .extend(refused.filter(|r| *r != (followed.class == Class::Refused)).map(Failed::Refused));
    failed.extend(unreachable.filter(|u| *u == answered).map(Failed::Unreachable));
    failed
        .extend(reason.filter(|r| followed.loss.map(|l| l.reason) != Some(*r)).map(Failed::Reason));
    let arrived = followed.arrived.map(|a| a.1.ends);
    let (source, destination) = (arrived.map(|e| e.source), arrived.map(|e| e.destination));
    let differs = |set: &Option<EndSet>, end: Option<Endpoint>| {
        set.as_ref().is_some_and(|set| end.is_none_or(|end| !set.holds(end)))
    };
    if differs(&wanted.becomes, source) {
        failed.push(Failed::Becomes(source));
    }
    if differs(&wanted.reaches, destination) {
        failed.push(Failed::Reaches(destination));
    }
    for (i, view) in wanted.seen_by.iter().enumerate() {
        let seen = followed.seen_at(view).into_iter().next();
        let fits = |(source, destination)| {
            !differs(&view.source, Some(source)) && !differs(&view.destination, Some(destination))
        };
        if !followed.seen_at(view).into_iter().any(fits) {
            failed.push(Failed::SeenBy(i, seen));
        }
    }
    failed
}

impl Followed {
    /// Source and destination of the first packet wherever it was seen at a place.
    fn seen_at(&self, view: &SeenBy) -> Vec<(Endpoint, Endpoint)> {
        let observations = self.forth_observations().into_iter();
        let here = observations.filter(|s| match (view.at, s.at) {
            (Viewpoint::Interface(d, i), ObservationPoint::Interface(device, interface)) => {
                d == device && i == interface
            }
            (Viewpoint::Host(h), ObservationPoint::Client) => {
                self.sent.is_some_and(|s| s.0 == crate::network::Origin::Host(h))
            }
            (Viewpoint::Host(h), ObservationPoint::Server) => {
                self.arrived.is_some_and(|a| a.0 == Receiver::Host(h))
            }
            (Viewpoint::Address(a), ObservationPoint::Client) => s.packet.source().address == a,
            (Viewpoint::Address(a), ObservationPoint::Server) => {
                s.packet.destination().address == a
            }
            _ => false,
        });
        here.map(|s| (s.packet.source(), s.packet.destination())).collect()
    }
}
