//! All inputs of a prediction on one clock.

use std::cmp::Reverse;
use std::collections::BinaryHeap;

use zarnet_core::compare::Begun;
use zarnet_core::event::Event;
use zarnet_core::limits;
use zarnet_core::net::Instant;
use zarnet_core::plan::{DeviceId, InterfaceId, Plan};
use zarnet_core::predict::Sources;
use zarnet_core::traffic::{Batches, Flow, Item, Load, LoadFlows, Party, Repeated, RepeatedFlows, Seen, SeenError};

use super::capture::Capture;
use super::clock::Clock;
use super::csv_list::CsvList;
use super::decode::Sight;
use super::fields::Context;
use super::input::{Input, Kind};
use super::json_list::JsonList;
use super::scenario::{self, Scenario};
use super::{Fault, Given, Names, Skipped, TrafficError};
use crate::files::Reach;
use crate::plan::Loaded;
use crate::source::Sources as Files;

/// Traffic that can be read as often as needed.
pub struct Traffic {
    names: Names,
    clock: Clock,
    parts: Vec<Part>,
    events: Vec<Event>,
    seen_at: Option<(DeviceId, InterfaceId)>,
    skip_bad: bool,
    /// Files of the plan, and of those that take over.
    plan_files: Files,
}

/// How traffic is to be read.
#[derive(Debug, Clone, Copy, Default)]
pub struct Reading {
    /// The vantage point of captures.
    pub seen_at: Option<(DeviceId, InterfaceId)>,
    /// Whether bad lines and packets are passed over.
    pub skip_bad: bool,
    /// Where load profiles without a seed of their own start from.
    pub seed: u64,
    /// How many times the rate of load profiles is made, and which of several draws of them; the first as they are.
    pub growth: Growth,
    /// Whether a scenario may name files outside of its folder.
    pub allow_outside: bool,
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

enum Part {
    List(Input, Kind),
    Load(Load),
    Flows(Input, Vec<Repeated>),
    Typed(Flow),
}

/// How the traffic is read.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Attempt {
    /// As it comes: it must be in order.
    Streaming,
    /// All of it first, then in order.
    Sorted,
}

impl Traffic {
    /// Opens everything that was named, and tells its kind by its content.
    ///
    /// # Errors
    /// Everything that is wrong with any input as a whole.
    pub fn open(given: &[Given], loaded: &Loaded, reading: Reading) -> Result<Self, Vec<TrafficError>> {
        let Reading { seen_at, skip_bad, seed, growth, allow_outside } = reading;
        let (parts, events, plan_files) = (Vec::new(), Vec::new(), loaded.sources.clone());
        let (names, clock) = (Names::new(&loaded.plan), Clock::default());
        let mut traffic = Self { names, clock, parts, events, seen_at, skip_bad, plan_files };
        let mut errors = Vec::new();
        for given in given {
            if let Err(more) = traffic.add(given, &loaded.plan, seed, allow_outside) {
                errors.extend(more);
            }
        }
        traffic.events.sort_by_key(|e| e.at);
        traffic.grow(growth);
        if errors.is_empty() { Ok(traffic) } else { Err(errors) }
    }

    fn add(&mut self, given: &Given, plan: &Plan, seed: u64, allow_outside: bool) -> Result<(), Vec<TrafficError>> {
        let whole = |fault| vec![TrafficError { input: given.name(), line: None, fault }];
        if let Given::Flow(text) = given {
            let flow = self.names.flow(text, Instant::ZERO).map_err(whole)?;
            self.parts.push(Part::Typed(flow));
            return Ok(());
        }
        let input = Input::open(given).map_err(whole)?;
        let part = match input.kind().map_err(whole)? {
            Kind::Capture if self.seen_at.is_none() => return Err(whole(Fault::VantageMissing)),
            Kind::Scenario => {
                let text = input.text(limits::SCENARIO_OCTETS).map_err(whole)?;
                let mut plan_files = std::mem::take(&mut self.plan_files);
                let setting = scenario::Setting {
                    name: &input.name,
                    plan,
                    context: self.context(),
                    reach: if allow_outside { Reach::anywhere() } else { Reach::below_folder_of(&input.name) },
                    seed,
                    faults: Default::default(),
                };
                let read = scenario::read(&text, &setting, &mut plan_files);
                self.plan_files = plan_files;
                let Scenario { flows, loads, events } = read?;
                self.events.extend(events);
                for load in loads {
                    self.parts.push(Part::Load(load));
                }
                Part::Flows(input, flows)
            }
            kind => Part::List(input, kind),
        };
        self.parts.push(part);
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

    /// Its load profiles.
    pub fn loads(&self) -> impl Iterator<Item = &Load> {
        self.parts.iter().filter_map(|p| if let Part::Load(load) = p { Some(load) } else { None })
    }

    /// Whether some of it is drawn from load profiles.
    pub fn has_loads(&self) -> bool {
        self.loads().next().is_some()
    }

    fn context(&self) -> Context<'_> {
        Context { names: &self.names, clock: &self.clock }
    }

    /// A time as the user writes it, on the clock of the traffic.
    ///
    /// # Errors
    /// What is wrong with it.
    pub fn time(&self, text: &str) -> Result<Instant, Fault> {
        // a time of day needs the origin, which is the earliest item's, wherever that stands
        if super::clock::day_time(text).is_some() {
            self.find_origin();
        }
        self.clock.parse(text)
    }

    /// The files that places of the plan, and of those that take over, are in.
    pub fn plan_files(&self) -> &Files {
        &self.plan_files
    }

    /// Events, in the order of their time.
    pub fn events(&self) -> Vec<Event> {
        self.events.clone()
    }

    /// Reads the traffic in the order of its clock.
    pub fn items(&self, attempt: Attempt) -> Items<'_> {
        if attempt == Attempt::Sorted {
            self.find_origin();
        }
        let readers = self.parts.iter().map(|part| self.reader(part)).collect();
        let (heads, order) = (Vec::new(), BinaryHeap::new());
        let mut items = Items { readers, heads, order, skipped: Skipped::default(), failed: false };
        if attempt == Attempt::Sorted {
            items.sort();
        }
        // a single input needs nobody to hold its next item against another's
        if items.readers.len() > 1 {
            items.heads = items.readers.iter_mut().map(Reader::next).collect();
            let next = |(i, head): (usize, &Option<_>)| head.as_ref().map(|head| Reverse((due(head), i)));
            items.order = items.heads.iter().enumerate().filter_map(next).collect();
        }
        items
    }

    /// Moves the origin of the clock to the earliest time of day in the traffic.
    fn find_origin(&self) {
        for part in &self.parts {
            let Part::List(input, Kind::Csv | Kind::JsonLines | Kind::Capture) = part else { continue };
            let Ok(reader) = input.read() else { continue };
            if let Part::List(_, Kind::Capture) = part {
                let Ok(mut capture) = Capture::new(reader) else { continue };
                while let Some(Ok((at, _))) = capture.next() {
                    self.clock.include(at);
                }
                continue;
            }
            let mut lines = super::csv_list::Lines::new(reader.reader);
            while let Some(line) = lines.next() {
                // any field that is a time of day moves it; only `start` can be one
                let text = line.ok().and_then(|l| std::str::from_utf8(l).ok());
                let fields = text.into_iter().flat_map(|t| t.split([',', '"']));
                fields.filter_map(|f| super::clock::day_time(f.trim())).for_each(|at| self.clock.include(at));
            }
        }
    }

    fn reader<'a>(&'a self, part: &'a Part) -> Reader<'a> {
        let context = self.context();
        let (input, stream) = match part {
            Part::Typed(flow) => (None, Ok(Stream::Flows(RepeatedFlows::new(vec![(*flow).into()])))),
            Part::Flows(input, flows) => (Some(input), Ok(Stream::Flows(RepeatedFlows::new(flows.clone())))),
            Part::Load(load) => (None, Ok(Stream::Load(Box::new(load.flows())))),
            Part::List(input, kind) => {
                let stream = input.read().map_err(|f| (0, f)).and_then(|reader| match kind {
                    Kind::Csv => CsvList::new(reader.reader, context).map(Stream::Csv),
                    Kind::JsonLines => Ok(Stream::Json(JsonList::new(reader.reader, context))),
                    _ => Capture::new(reader).map(Box::new).map(Stream::Capture).map_err(|f| (0, f)),
                });
                (Some(input), stream)
            }
        };
        let (stream, failed) = match stream {
            Ok(stream) => (stream, None),
            Err(fault) => (Stream::Items(Vec::new().into_iter()), Some(fault)),
        };
        let (seen_at, skip_bad) = (self.seen_at, self.skip_bad);
        Reader { input, stream, failed, clock: &self.clock, seen_at, skip_bad, bad: 0 }
    }

    /// Every address that sends somewhere, as far as the traffic can be read.
    pub fn sources(&self) -> Sources {
        let mut sources = Sources::default();
        for item in self.items(Attempt::Streaming).filter_map(Result::ok) {
            match item {
                Item::Flow(Flow { source: Party::Address(address), .. }) => {
                    sources.insert(address);
                }
                Item::Flow(_) | Item::Error(_) => {}
                Item::Seen(seen) => {
                    sources.insert(seen.packet.source().address);
                }
            }
        }
        sources
    }

    /// Internal and other ends that begin flows, as far as the traffic can be read; port 0 where the sender chooses it.
    pub fn begun(&self) -> Begun {
        let mut begun = Begun::default();
        for item in self.items(Attempt::Streaming).filter_map(Result::ok) {
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
        begun
    }

    /// Everything that is wrong with the traffic and is not passed over: [`limits::BAD_LINES_SHOWN`] of its faults, and how
    /// many there are, up to [`limits::BAD_LINES`] of each input.
    pub fn errors(&self) -> (Vec<TrafficError>, usize) {
        let (mut told, mut count) = (Vec::new(), 0);
        for part in &self.parts {
            let mut reader = self.reader(part);
            while let Some(item) = reader.next() {
                let Err(error) = item else { continue };
                count += 1;
                let fatal = !error.fault.is_of_one_line();
                if told.len() < limits::BAD_LINES_SHOWN {
                    told.push(TrafficError { fault: self.names.with_hint(error.fault), ..error });
                }
                if fatal || count >= limits::BAD_LINES {
                    break;
                }
            }
        }
        (told, count)
    }
}

enum Stream<'a> {
    Csv(CsvList<'a>),
    Json(JsonList<'a>),
    Capture(Box<Capture>),
    Flows(RepeatedFlows),
    Load(Box<LoadFlows>),
    Items(std::vec::IntoIter<Item>),
}

struct Reader<'a> {
    input: Option<&'a Input>,
    stream: Stream<'a>,
    failed: Option<(u64, Fault)>,
    clock: &'a Clock,
    seen_at: Option<(DeviceId, InterfaceId)>,
    skip_bad: bool,
    bad: u64,
}

impl Reader<'_> {
    #[inline]
    fn next(&mut self) -> Option<Result<Item, TrafficError>> {
        if let Some((line, fault)) = self.failed.take() {
            return Some(Err(self.error(line, fault)));
        }
        loop {
            let (line, item) = match &mut self.stream {
                Stream::Csv(list) => {
                    let flow = list.next()?;
                    match flow {
                        Ok(flow) => return Some(Ok(Item::Flow(flow))),
                        Err(fault) => (list.line(), Err(fault)),
                    }
                }
                Stream::Json(list) => {
                    let flow = list.next()?;
                    (list.line(), flow.map(Item::Flow))
                }
                Stream::Flows(flows) => (0, Ok(Item::Flow(flows.next()?))),
                Stream::Load(flows) => (0, Ok(Item::Flow(flows.next()?))),
                Stream::Items(items) => (0, Ok(items.next()?)),
                Stream::Capture(capture) => {
                    let packet = capture.next()?;
                    (
                        capture.packets,
                        packet.and_then(|(at, sight)| {
                            let at = self.clock.absolute(at).ok_or_else(|| Fault::NegativeTime("a packet".into()))?;
                            let (device, interface) = self.seen_at.ok_or(Fault::VantageMissing)?;
                            Ok(match sight {
                                Sight::Packet(packet) => Item::Seen(Seen { at, device, interface, packet }),
                                Sight::Error(error) => Item::Error(SeenError { at, device, interface, error }),
                            })
                        }),
                    )
                }
            };
            match item {
                Ok(item) => return Some(Ok(item)),
                Err(fault) if self.skip_bad && fault.is_of_one_line() => self.bad += 1,
                Err(fault) => return Some(Err(self.error(line, fault))),
            }
        }
    }

    /// Adds the next items to a batch until it holds `most`; the reason why one cannot be read.
    fn fill(&mut self, batch: &mut Vec<Item>, most: usize) -> Option<TrafficError> {
        while batch.len() < most {
            match &mut self.stream {
                _ if self.failed.is_some() => {}
                Stream::Csv(list) => list.fill(batch, most),
                Stream::Capture(capture) => {
                    if let Some((device, interface)) = self.seen_at {
                        capture.take_usual(|at, packet| {
                            let at = self.clock.absolute(at).filter(|_| batch.len() < most);
                            batch.extend(at.map(|at| Item::Seen(Seen { at, device, interface, packet })));
                            at.is_some()
                        });
                    }
                }
                _ => {}
            }
            if batch.len() == most {
                break;
            }
            match self.next()? {
                Ok(item) => batch.push(item),
                Err(error) => return Some(error),
            }
        }
        None
    }

    fn error(&self, line: u64, fault: Fault) -> TrafficError {
        let input = self.input.map(|i| i.name.clone()).unwrap_or_default();
        TrafficError { input, line: (line > 0).then_some(line), fault }
    }

    fn skipped(&self) -> Skipped {
        let mut skipped = match &self.stream {
            Stream::Capture(capture) => capture.skipped,
            _ => Skipped::default(),
        };
        skipped.bad += self.bad;
        skipped
    }
}

/// Items of all inputs, in the order of their start; inputs in the order in which they were named.
pub struct Items<'a> {
    readers: Vec<Reader<'a>>,
    /// The next item of each input, where there are several.
    heads: Vec<Option<Result<Item, TrafficError>>>,
    /// Which of them is when due: the first in time, of equals the first that was named.
    order: BinaryHeap<Reverse<(Instant, usize)>>,
    skipped: Skipped,
    failed: bool,
}

impl Items<'_> {
    /// Reads everything and puts it in order; what starts together keeps its order.
    fn sort(&mut self) {
        for reader in &mut self.readers {
            let (mut items, mut failed) = (Vec::new(), None);
            while let Some(item) = reader.next() {
                match item {
                    Ok(item) => items.push(item),
                    Err(error) => {
                        failed = Some((error.line.unwrap_or(0), error.fault));
                        break;
                    }
                }
            }
            items.sort_by_key(Item::at);
            self.skipped.add(reader.skipped());
            (reader.stream, reader.failed, reader.bad) = (Stream::Items(items.into_iter()), failed, 0);
        }
    }

    /// Adds the next items to a batch until it holds `most` of them or there are no more; the reason why one cannot be read.
    pub fn fill(&mut self, batch: &mut Vec<Item>, most: usize) -> Option<TrafficError> {
        if let ([reader], [], false) = (&mut self.readers[..], &self.heads[..], self.failed) {
            let error = reader.fill(batch, most);
            self.failed = error.is_some();
            return error;
        }
        Batches::fill(self, batch, most)
    }

    /// What was passed over so far.
    pub fn skipped(&self) -> Skipped {
        let mut skipped = self.skipped;
        self.readers.iter().for_each(|r| skipped.add(r.skipped()));
        skipped
    }
}

/// When an item is due; an error at once.
fn due(item: &Result<Item, TrafficError>) -> Instant {
    item.as_ref().map_or(Instant::ZERO, Item::at)
}

impl Iterator for Items<'_> {
    type Item = Result<Item, TrafficError>;

    #[inline]
    fn next(&mut self) -> Option<Self::Item> {
        if self.failed {
            return None;
        }
        if let ([reader], []) = (&mut self.readers[..], &self.heads[..]) {
            let item = reader.next();
            self.failed = matches!(item, Some(Err(_)));
            return item;
        }
        let Reverse((_, i)) = self.order.pop()?;
        let next = self.readers[i].next();
        self.order.extend(next.as_ref().map(|next| Reverse((due(next), i))));
        let item = std::mem::replace(&mut self.heads[i], next);
        self.failed = matches!(item, Some(Err(_)));
        item
    }
}
