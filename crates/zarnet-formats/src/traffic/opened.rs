//! All that was named, opened: traffic that can be read as often as needed.
//!
//! Playing it once reads no source more than twice. What is in order is read as it comes. Of what
//! turns out not to be, the rest is surveyed, and then all of it is kept, in order; so it is where
//! all its sources must be known beforehand. Where a time of day is asked for first, a survey finds
//! the origin of the clock.

use std::collections::HashSet;
use std::net::IpAddr;
use std::path::{Path, PathBuf};
use std::sync::OnceLock;

use zarnet_core::event::Event;
use zarnet_core::limits;
use zarnet_core::net::{Instant, Protocol};
use zarnet_core::plan::{DeviceId, InterfaceId, Plan};
use zarnet_core::predict::Sources;
use zarnet_core::traffic::{Flow, Item, Load, Repeated, RepeatedFlows, Seen};

use super::clock::{Clock, day_time};
use super::input::Input;
use super::kept::{Faults, Kept, KeptSource};
use super::kind::Kind;
use super::merge::{Items, Reader, Survey, sender};
use super::scenario::{self, Scenario};
use super::source::{Made, Source};
use super::{Fault, Given, Names, ObservedAt, TrafficError};
use crate::files::Reach;
use crate::plan::Loaded;
use crate::source::Sources as Files;

/// What is known of the traffic: internal ends that began flows in it.
pub type Begun = HashSet<(Protocol, IpAddr, u16)>;

/// Traffic that can be read as often as needed.
pub struct Traffic {
    names: Names,
    parts: Vec<Part>,
    events: Vec<(Event, String)>,
    seen_at: Option<ObservedAt>,
    skip_bad: bool,
    threads: usize,
    /// Files of the plan, and of those that take over.
    plan_files: Files,
    /// When the clock begins, if that was said.
    begins: Option<i128>,
    /// The first time of day of what was read on opening.
    opened: Clock,
    survey: OnceLock<Survey>,
    kept: OnceLock<Kept>,
}

/// How traffic is to be read.
#[derive(Debug, Clone, Copy, Default)]
pub struct Reading {
    /// The observation point of captures (RFC 7011 §2).
    pub seen_at: Option<(DeviceId, InterfaceId)>,
    /// Whether bad lines and packets are passed over.
    pub skip_bad: bool,
    /// Where load profiles without a seed of their own start from.
    pub seed: u64,
    /// How many times the rate of load profiles is made, and which of several draws of them; the
    /// first as they are.
    pub growth: Growth,
    /// Whether a scenario may name files outside of its folder.
    pub allow_outside: bool,
    /// When the clock of the traffic begins, in nanoseconds since 1970; the first time of day in it
    /// if that is not given.
    pub begins: Option<i128>,
    /// How many threads may read and play; none less than one.
    pub threads: usize,
}

/// A load that has grown, drawn anew.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Growth {
    /// How many times the rate.
    pub times: f64,
    /// Which draw; 0 is the one that the profile itself gives.
    pub draw: u64,
}

impl Default for Growth {
    fn default() -> Self {
        Self { times: 1.0, draw: 0 }
    }
}

/// Something that was named, or that something named holds.
enum Part {
    List(Input, Kind),
    Load(Load),
    Flows(PathBuf, Vec<Repeated>),
    Typed(Flow),
}

impl Part {
    /// What to call it in a message.
    fn name(&self) -> &Path {
        match self {
            Self::List(input, _) => &input.name,
            Self::Flows(name, _) => name,
            Self::Load(_) | Self::Typed(_) => Path::new(""),
        }
    }

    /// It from its beginning.
    fn open<'a>(&'a self, names: &'a Names, seen_at: Option<ObservedAt>) -> Box<dyn Source + 'a> {
        match self {
            Self::List(input, kind) => kind.open(input, names, seen_at),
            Self::Load(load) => Box::new(Made(load.flows())),
            Self::Flows(_, flows) => Box::new(Made(RepeatedFlows::new(flows.clone()))),
            Self::Typed(flow) => Box::new(Made(RepeatedFlows::new(vec![(*flow).into()]))),
        }
    }
}

/// How the traffic is read.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Attempt {
    /// As it comes: it must be in order.
    Streaming,
    /// All of it first, then in order: it is kept from then on.
    Sorted,
}

impl Traffic {
    /// Opens everything that was named, and tells its kind by its content.
    ///
    /// # Errors
    /// Everything that is wrong with any input as a whole.
    pub fn open(
        given: &[Given],
        loaded: &Loaded,
        reading: Reading,
    ) -> Result<Self, Vec<TrafficError>> {
        let Reading { seen_at, skip_bad, seed, growth, allow_outside, begins, threads } = reading;
        let (parts, events, plan_files) = (Vec::new(), Vec::new(), loaded.sources.clone());
        let (names, opened) = (Names::new(&loaded.plan), Clock::from(begins));
        let (survey, kept) = (OnceLock::new(), OnceLock::new());
        let mut traffic = Self {
            names,
            parts,
            events,
            seen_at,
            skip_bad,
            threads,
            plan_files,
            begins,
            opened,
            survey,
            kept,
        };
        let mut errors = Vec::new();
        for given in given {
            if let Err(more) = traffic.add(given, &loaded.plan, seed, allow_outside) {
                errors.extend(more);
            }
        }
        traffic.events.sort_by_key(|e| e.0.at);
        traffic.grow(growth);
        if errors.is_empty() { Ok(traffic) } else { Err(errors) }
    }

    fn add(
        &mut self,
        given: &Given,
        plan: &Plan,
        seed: u64,
        allow_outside: bool,
    ) -> Result<(), Vec<TrafficError>> {
        let whole = |fault| vec![TrafficError { input: given.name(), line: None, fault }];
        if let Given::Flow(text) = given {
            let flow = self.names.flow(text, Instant::ZERO).map_err(whole)?;
            self.parts.push(Part::Typed(flow));
            return Ok(());
        }
        let input = Input::open(given).map_err(whole)?;
        let kind = Kind::of(&input).map_err(whole)?;
        if kind.needs_observation_point() && self.seen_at.is_none() {
            return Err(whole(Fault::ObservationPointMissing));
        }
        if kind != Kind::Scenario {
            self.parts.push(Part::List(input, kind));
            return Ok(());
        }
        let text = input.text(limits::SCENARIO_OCTETS).map_err(whole)?;
        let setting = scenario::Setting {
            name: &input.name,
            plan,
            names: &self.names,
            clock: self.opened.into(),
            reach: if allow_outside {
                Reach::anywhere()
            } else {
                Reach::below_folder_of(&input.name)
            },
            seed,
            faults: Default::default(),
        };
        let read = scenario::read(&text, &setting, &mut self.plan_files);
        self.opened = setting.clock.into_inner();
        let Scenario { flows, loads, events } = read?;
        self.events.extend(events);
        self.parts.extend(loads.into_iter().map(Part::Load));
        self.parts.push(Part::Flows(input.name, flows));
        Ok(())
    }

    /// Makes load profiles larger, and draws them anew.
    fn grow(&mut self, growth: Growth) {
        for part in &mut self.parts {
            if let Part::Load(load) = part {
                load.rate *= growth.times;
                // draws must not meet the seeds of other profiles
                load.seed = load.seed.wrapping_add(growth.draw.wrapping_mul(0x9e37_79b9_7f4a_7c15));
            }
        }
    }

    /// The load profiles of all scenarios.
    pub fn loads(&self) -> impl Iterator<Item = &Load> {
        self.parts.iter().filter_map(|p| if let Part::Load(load) = p { Some(load) } else { None })
    }

    /// How many threads may read and play it.
    pub fn threads(&self) -> usize {
        self.threads
    }

    /// Whether some of it is drawn from load profiles.
    pub fn has_loads(&self) -> bool {
        self.loads().next().is_some()
    }

    /// A time as the user writes it, on the clock of the traffic.
    ///
    /// # Errors
    /// What is wrong with it.
    pub fn time(&self, text: &str) -> Result<Instant, Fault> {
        // a time of day needs the origin, which is the earliest item's, wherever that stands
        let mut clock = if day_time(text).is_some() { self.surveyed() } else { self.opened };
        clock.parse(text)
    }

    /// The clock of the traffic, with its origin.
    fn surveyed(&self) -> Clock {
        let survey = self.survey.get_or_init(|| Survey::of(self.readers(), self.opened));
        Clock::from(self.begins.or(survey.origin))
    }

    /// When the clock of the traffic begins, in nanoseconds since 1970, if it was said or a time of
    /// day in the traffic tells it.
    pub fn origin(&self) -> Option<i128> {
        self.begins.or_else(|| self.surveyed().earliest())
    }

    /// The files that places of the plan, and of those that take over, are in.
    pub fn plan_files(&self) -> &Files {
        &self.plan_files
    }

    /// Events, in the order of their time.
    pub fn events(&self) -> Vec<Event> {
        self.events.iter().map(|e| e.0.clone()).collect()
    }

    /// The same, each with the place where it stands, as FILE:LINE.
    pub fn placed_events(&self) -> &[(Event, String)] {
        &self.events
    }

    /// Reads the traffic in the order of its clock. What is known not to be in order comes sorted
    /// all the same.
    pub fn items(&self, attempt: Attempt) -> Items<'_> {
        let unordered = self.survey.get().is_some_and(|survey| !survey.in_order);
        if attempt == Attempt::Sorted || unordered || self.kept.get().is_some() {
            let kept = self.kept();
            let replayed = self.parts.iter().zip(&kept.sources);
            let readers = replayed
                .map(|(part, kept)| Reader::new(part.name(), Box::new(kept.replay()), false));
            return Items::new(readers.collect(), self.opened);
        }
        let clock = self
            .survey
            .get()
            .map_or(self.opened, |survey| Clock::from(self.begins.or(survey.origin)));
        Items::new(self.readers(), clock)
    }

    /// Learns from items that were found not to be in order what the rest of them tells.
    pub fn learn(&self, items: Items<'_>) {
        if self.survey.get().is_none() && self.kept.get().is_none() {
            let survey = items.survey_rest();
            self.survey.get_or_init(|| survey);
        }
    }

    /// Every source from its beginning.
    fn readers(&self) -> Vec<Reader<'_>> {
        let reader = |part| {
            let source = Part::open(part, &self.names, self.seen_at);
            Reader::new(Part::name(part), source, self.skip_bad)
        };
        self.parts.iter().map(reader).collect()
    }

    /// All of it, read once and kept in order.
    fn kept(&self) -> &Kept {
        let mut clock = self.surveyed();
        self.kept.get_or_init(|| {
            let mut kept = Kept::default();
            for reader in self.readers() {
                let input = reader.input;
                kept.sources.push(KeptSource::read(reader, &mut clock, input, &mut kept.faults));
            }
            kept
        })
    }

    /// Every address that sends somewhere, as far as the traffic can be read.
    pub fn sources(&self) -> Sources {
        self.known_sources().unwrap_or_else(|| {
            let items = self.kept().sources.iter().flat_map(KeptSource::items);
            items.filter_map(sender).collect()
        })
    }

    /// The same, if it is known already.
    pub fn known_sources(&self) -> Option<Sources> {
        self.survey.get().and_then(|survey| survey.sources.clone())
    }

    /// The internal or other end that an item begins a flow from; port 0 where the sender chooses
    /// it.
    pub fn note_begun(&self, item: &Item, begun: &mut Begun) {
        match item {
            Item::Flow(flow) => {
                let address = self.names.address(flow.source);
                begun.extend(address.map(|a| (flow.protocol, a, flow.source_port.unwrap_or(0))));
            }
            Item::Seen(Seen { packet, .. }) if packet.may_begin() => {
                begun.insert((packet.protocol, packet.source().address, packet.source().port));
            }
            Item::Seen(_) | Item::Error(_) => {}
        }
    }

    /// Everything that is wrong with the traffic and is not passed over:
    /// [`limits::BAD_LINES_SHOWN`] of its faults, and how many there are, up to
    /// [`limits::BAD_LINES`] of each input.
    pub fn errors(&self) -> (Vec<TrafficError>, usize) {
        let faults = match self.kept.get() {
            Some(kept) => kept.faults.clone(),
            None => self.find_faults(),
        };
        let with_hint =
            |e: TrafficError| TrafficError { fault: self.names.with_hint(e.fault), ..e };
        (faults.shown.into_iter().map(with_hint).collect(), faults.count)
    }

    fn find_faults(&self) -> Faults {
        let mut faults = Faults::default();
        let mut clock = self
            .survey
            .get()
            .map_or(self.opened, |survey| Clock::from(self.begins.or(survey.origin)));
        for mut reader in self.readers() {
            while let Some(item) = reader.next(&mut clock) {
                if let Err(fault) = item
                    && !faults.add(reader.input, fault)
                {
                    break;
                }
            }
        }
        faults
    }
}

#[cfg(test)]
mod tests;
