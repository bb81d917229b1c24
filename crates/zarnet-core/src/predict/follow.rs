//! One conversation watched: its first packet and the answer, hop by hop, on a network at rest or
//! in the middle of a day.

use std::sync::Arc;

use super::answer::Answer;
use super::play::play;
use super::run::Run;
use super::{Halt, Moment, Options};
use crate::event::Event;
use crate::net::{Instant, Packet, Signal, Tuple};
use crate::network::{Fate, Loss, Network, Origin, Receiver, Trace};
use crate::plan::{DeviceId, InterfaceId, Plan};
use crate::reason::{Class, Reason};
use crate::traffic::{Batches, Flow};

/// A flow and its answer, followed step by step.
#[derive(Debug, Clone)]
pub struct Followed {
    /// The plan at that time.
    pub plan: Arc<Plan>,
    /// The flow that is followed.
    pub flow: Flow,
    /// When its first packet was sent.
    pub at: Instant,
    /// Who sent it and what; `None` if nobody could.
    pub sent: Option<(Origin, Packet)>,
    /// The way of the first packet.
    pub forth: Trace,
    /// Who got it, as it then was.
    pub arrived: Option<(Receiver, Packet)>,
    /// The way of the answer.
    pub back: Trace,
    /// The answer as it came back, taken or not.
    pub returned: Option<Packet>,
    /// The way of the acknowledgement that completes a TCP connection, if it came to that.
    pub confirm: Trace,
    /// How the flow ends up.
    pub class: Class,
    /// Why it was not translated or not delivered; `None` if it was.
    pub loss: Option<Loss>,
    /// Whether it was refused or lost, or passed by a rule that was meant for it.
    pub negative: bool,
}

/// A conversation and the network that it went through, as it is after that.
#[derive(Debug, Clone)]
pub struct Scene {
    /// What was seen of the flow.
    pub followed: Followed,
    /// The network after the flow's first packets.
    pub network: Network,
    /// What was done to devices before, with where it was written; nothing at rest.
    pub events: Vec<(Event, String)>,
}

impl Scene {
    /// A flow on a network at rest.
    pub fn at_rest(plan: Arc<Plan>, seed: u64, flow: &Flow) -> Self {
        let mut run = Run::at_rest(Network::new(plan, seed, None));
        run.network.keep_ended();
        let followed = run.follow(Instant::ZERO, flow);
        Self { followed, network: run.network, events: Vec::new() }
    }
}

/// Somewhere a packet can be seen.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ObservationPoint {
    /// Who sent the first packet.
    Client,
    /// An interface of a device.
    Interface(DeviceId, InterfaceId),
    /// The server received the packet.
    Server,
}

/// What is seen at a place.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct SeenEnds {
    /// Device and interface where the packet is seen.
    pub at: ObservationPoint,
    /// The first packet's ends there; `None` where only the answer came by.
    pub forth: Option<Tuple>,
    /// The answer's ends there.
    pub back: Option<Tuple>,
}

/// A packet at a place on its way.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Observation {
    /// Device and interface where the packet is seen.
    pub at: ObservationPoint,
    /// The packet as it is there.
    pub packet: Packet,
    /// Whether it is coming in there, or arriving.
    pub incoming: bool,
}

impl Followed {
    /// Whether the first packet arrived.
    pub fn delivered(&self) -> bool {
        self.arrived.is_some()
    }

    /// Whether the answer was taken by whoever asked.
    pub fn answered(&self) -> bool {
        matches!(self.class, Class::Translated | Class::Untranslated)
    }

    /// Where the first packet was seen, in its order.
    pub fn forth_observations(&self) -> Vec<Observation> {
        let first = self.sent.map(|s| (ObservationPoint::Client, s.1));
        observations(first, &self.forth, self.arrived.map(|a| (ObservationPoint::Server, a.1)))
    }

    /// Where the answer was seen, in its order.
    pub fn back_observations(&self) -> Vec<Observation> {
        let first = self.arrived.map(|a| (ObservationPoint::Server, a.1.answer()));
        observations(first, &self.back, self.returned.map(|p| (ObservationPoint::Client, p)))
    }

    /// Where the acknowledgement of a TCP connection was seen, in its order.
    pub fn confirm_observations(&self) -> Vec<Observation> {
        let (Some((_, sent)), Some((_, arrived))) = (self.sent, self.arrived) else {
            return Vec::new();
        };
        if self.confirm == Trace::default() {
            return Vec::new();
        }
        let plain = |packet| Packet { signal: Signal::Plain, ..packet };
        observations(
            Some((ObservationPoint::Client, plain(sent))),
            &self.confirm,
            Some((ObservationPoint::Server, plain(arrived))),
        )
    }

    /// What every place sees, in the order of the first packet's way.
    pub fn views(&self) -> Vec<SeenEnds> {
        let mut views: Vec<SeenEnds> = Vec::new();
        for s in self.forth_observations() {
            let view = SeenEnds { at: s.at, forth: Some(s.packet.ends), back: None };
            // what goes in circles is seen again and again
            if !views.contains(&view) {
                views.push(view);
            }
        }
        for s in self.back_observations() {
            let ends = Some(s.packet.ends);
            match views.iter_mut().find(|v| v.at == s.at && v.back.is_none()) {
                Some(view) => view.back = ends,
                None => views.push(SeenEnds { at: s.at, forth: None, back: ends }),
            }
        }
        views
    }
}

fn observations(
    first: Option<(ObservationPoint, Packet)>,
    trace: &Trace,
    last: Option<(ObservationPoint, Packet)>,
) -> Vec<Observation> {
    let seen = |(at, packet), incoming| Observation { at, packet, incoming };
    let mut list: Vec<Observation> = first.map(|f| seen(f, false)).into_iter().collect();
    for hop in &trace.hops {
        list.extend(
            hop.ingress
                .map(|i| seen((ObservationPoint::Interface(hop.device, i), hop.packet), true)),
        );
        list.extend(hop.exit.map(|o| {
            seen((ObservationPoint::Interface(hop.device, o.interface), o.packet), false)
        }));
    }
    list.extend(last.map(|l| seen(l, true)));
    list
}

/// Follows a flow that starts at a moment of a day; `flow.start` is not looked at. Items must come
/// in the order of their start.
///
/// # Errors
/// As [`super::predict`].
pub fn follow_during<B: Batches>(
    plan: Arc<Plan>,
    items: B,
    events: Vec<Event>,
    options: Options,
    flow: &Flow,
) -> Result<Scene, Halt<B::Error>> {
    let moment = options.moment;
    let mut run = Run::new(plan, events, options);
    run.network.keep_ended();
    if let Moment::At(at) = moment {
        run.until = at;
    }
    play(&mut run, items)?;
    let at = match moment {
        Moment::At(at) => at,
        Moment::End => run.reach_end(),
    };
    run.advance(at);
    let followed = run.follow(at, flow);
    let network = run.network;
    if network.missed_source() {
        Err(Halt::SourcesNeeded)
    } else {
        Ok(Scene { followed, network, events: Vec::new() })
    }
}

/// A network at rest, on which one flow after the other is tried: each finds it as if none had been
/// before.
#[derive(Debug, Clone)]
pub struct Rehearsal {
    rest: Network,
    stage: Network,
}

impl Rehearsal {
    /// The network of a plan. The same `seed` gives the same random choices.
    pub fn new(plan: Arc<Plan>, seed: u64) -> Self {
        let rest = Network::new(plan, seed, None);
        Self { stage: rest.clone(), rest }
    }

    /// Sends a flow's first packet and its answer, and notes every step.
    pub fn follow(&mut self, flow: &Flow) -> Followed {
        let mut run = Run::at_rest(std::mem::replace(&mut self.stage, self.rest.empty()));
        let followed = run.follow(Instant::ZERO, flow);
        self.stage = run.network;
        let ways = [&followed.forth, &followed.back, &followed.confirm];
        let mut touched: Vec<DeviceId> =
            ways.iter().flat_map(|w| &w.hops).map(|h| h.device).collect();
        touched.sort_unstable();
        touched.dedup();
        self.stage.restore(&self.rest, &touched);
        followed
    }
}

impl Run {
    fn follow(&mut self, at: Instant, flow: &Flow) -> Followed {
        let as_things_are = self.as_things_are(&Flow { start: at, ..*flow });
        let flow = as_things_are.unwrap_or_else(|(flow, _)| flow);
        let mut followed = Followed {
            plan: self.network.plan().clone(),
            flow,
            at,
            sent: None,
            forth: Trace::default(),
            arrived: None,
            back: Trace::default(),
            returned: None,
            confirm: Trace::default(),
            class: Class::Undelivered,
            loss: None,
            negative: true,
        };
        let lost = |followed: &mut Followed, loss: Loss| {
            followed.class = loss.reason.class();
            followed.loss = Some(loss);
        };
        if let Err((_, device)) = as_things_are {
            lost(
                &mut followed,
                Loss { reason: Reason::NoRoute, device: Some(device), rule: None, place: None },
            );
            return followed;
        }
        let (origin, packet) = match self.first_packet(&flow) {
            Ok(first) => first,
            Err((reason, device)) => {
                lost(&mut followed, Loss { reason, device, rule: None, place: None });
                followed.negative = reason.class() != Class::Untranslated;
                return followed;
            }
        };
        followed.sent = Some((origin, packet));
        let mut passages = Vec::new();
        let (receiver, arrived) =
            match self.network.send(at, origin, packet, &mut passages, &mut followed.forth) {
                Fate::Arrived(receiver, arrived) => (receiver, arrived),
                Fate::Lost(loss) => {
                    lost(&mut followed, loss);
                    return followed;
                }
            };
        followed.arrived = Some((receiver, arrived));
        let forth = passages.len();
        let issue = self.network.issue();
        let mut answer = Answer { flow, asked: packet, origin, receiver, arrived, passages, issue };
        let fate = self.network.answer(
            flow.answered_at(),
            receiver,
            arrived,
            (origin, packet),
            &mut answer.passages,
            &mut followed.back,
        );
        match fate {
            Fate::Arrived(_, returned) => {
                followed.returned = Some(returned);
                followed.negative = false;
                match answer.unchanged(forth) {
                    None => followed.class = Class::Translated,
                    Some((reason, device, rule)) => {
                        let place = self.rule_place(device, rule);
                        lost(&mut followed, Loss { reason, device, rule, place });
                        followed.negative = self.is_passed_by(reason, &answer.passages[..forth]);
                    }
                }
                if packet.signal == Signal::Syn {
                    let plain = Packet { signal: Signal::Plain, ..packet };
                    self.network.send(
                        flow.answered_at(),
                        origin,
                        plain,
                        &mut Vec::new(),
                        &mut followed.confirm,
                    );
                }
            }
            Fate::Lost(loss) => {
                if loss.reason == Reason::UnexpectedSource {
                    followed.returned =
                        followed.back.hops.last().and_then(|h| h.exit).map(|o| o.packet);
                    followed.returned = followed.returned.or(Some(arrived.answer()));
                }
                lost(&mut followed, loss);
            }
        }
        followed
    }
}
