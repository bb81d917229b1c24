//! The answer of `follow`: a shape for scripts, and the same for people.

use std::io::{self, Write};
use std::net::IpAddr;

use serde::Serialize;
use zarnet_core::net::{Endpoint, Packet, Tuple};
use zarnet_core::network::{Handover, Hop, Origin, Receiver, Trace};
use zarnet_core::observe::{By, Stage, StageResult, Step, Taker};
use zarnet_core::plan::{DeviceId, Place};
use zarnet_core::predict::{Followed, Sight, Vantage};
use zarnet_core::{Class, Reason};

use super::answer::End;
use super::csv::Row;
use super::naming::{Naming, Position};
use super::table::{self, BAD, BOLD, CAUTION, Cell, Column, DIM, GOOD};

/// A conversation with the names of its plan.
#[derive(Clone, Copy)]
pub struct Story<'a> {
    /// Names.
    pub naming: Naming<'a>,
    /// What became of the flow.
    pub followed: &'a Followed,
}

/// The answer as a shape.
#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct Shape<'a> {
    shape: u32,
    flow: String,
    at: f64,
    class: &'static str,
    delivered: bool,
    answered: bool,
    reason: Option<&'static str>,
    device: Option<&'a str>,
    rule: Option<&'a str>,
    place: Option<Position>,
    forth: Vec<HopShape<'a>>,
    back: Vec<HopShape<'a>>,
    /// Who took the first packet from its sender, and the answer from whoever sent that.
    handed: [Vec<Handed>; 2],
    views: Vec<View>,
}

#[derive(Serialize)]
struct HopShape<'a> {
    device: &'a str,
    r#in: Option<Side<'a>>,
    steps: Vec<StepShape>,
    out: Option<Side<'a>>,
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct Side<'a> {
    interface: &'a str,
    source: End,
    destination: End,
    #[serde(skip_serializing_if = "Option::is_none")]
    next_hop: Option<IpAddr>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    handed: Vec<Handed>,
}

/// Who answers for an address.
#[derive(Serialize)]
struct Handed {
    address: IpAddr,
    by: Option<String>,
}

#[derive(Serialize)]
struct StepShape {
    step: &'static str,
    result: &'static str,
    by: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    reason: Option<&'static str>,
    #[serde(skip_serializing_if = "Option::is_none")]
    from: Option<End>,
    #[serde(skip_serializing_if = "Option::is_none")]
    to: Option<End>,
    place: Option<Position>,
}

/// What a place sees of the first packet, and of the answer.
#[derive(Serialize)]
struct View {
    at: String,
    source: Option<End>,
    destination: Option<End>,
    answer: Option<Ends>,
}

#[derive(Serialize)]
struct Ends {
    source: End,
    destination: End,
}

/// The name of a class.
pub fn class_name(class: Class) -> &'static str {
    match class {
        Class::Translated => "translated",
        Class::Untranslated => "untranslated",
        Class::Refused => "refused",
        Class::Undelivered => "undelivered",
    }
}

impl<'a> Story<'a> {
    fn interface(self, device: DeviceId, interface: zarnet_core::plan::InterfaceId) -> String {
        format!("{}/{}", self.naming.device(device), self.naming.interface(device, interface))
    }

    fn taker(self, handover: &Handover) -> Option<String> {
        handover.to.map(|taker| match taker {
            Taker::Host(id) => self.naming.host(id).to_owned(),
            Taker::Interface(device, interface) => self.interface(device, interface),
            Taker::Undeclared => format!("{} (not in the plan)", handover.address),
            Taker::Provider => "the provider's router".to_owned(),
            Taker::Peer => handover.address.to_string(),
        })
    }

    fn by(self, device: DeviceId, by: By) -> Option<String> {
        let plan = &self.followed.plan.devices[device.index()];
        let rule = |id| self.naming.rule(device, id).to_owned();
        Some(match by {
            By::Nothing => return None,
            By::Acl(id, Some(entry)) => format!("{}, entry {}", plan.acls[id.index()].name, entry + 1),
            By::Acl(id, None) => format!("{}, no entry matches", plan.acls[id.index()].name),
            By::Policy(Some(entry)) => {
                let entry = &plan.policies[entry];
                let side = |zone: &Option<zarnet_core::plan::Zone>| {
                    let names = zone.as_ref().map(|z| z.names.iter().map(|n| n.value.as_str()).collect::<Vec<_>>());
                    names.map_or("any".to_owned(), |n| n.join(", "))
                };
                format!("{} -> {}", side(&entry.from), side(&entry.into))
            }
            By::Policy(None) => "default-policy".to_owned(),
            By::Rule(id) => rule(id),
            By::Rules([a, b]) => distinct_names(a.map(rule), b.map(rule)),
            By::Interface(id) => self.naming.interface(device, id).to_owned(),
            By::Route(i) => format!("{} via {}", plan.routes[i].to, plan.routes[i].via),
        })
    }

    fn position(self, place: Option<Place>) -> Option<Position> {
        place.and_then(|p| self.naming.position(p))
    }

    /// What a place is called.
    pub fn vantage(self, at: Vantage, ends: Option<Tuple>) -> String {
        let plan = self.naming;
        match at {
            Vantage::Interface(device, interface) => self.interface(device, interface),
            Vantage::Client => match self.followed.sent {
                Some((Origin::Host(id), _)) => plan.host(id).to_owned(),
                Some((Origin::Device(id), _)) => plan.device(id).to_owned(),
                Some((_, packet)) => packet.source().address.to_string(),
                None => String::new(),
            },
            Vantage::Server => match self.followed.arrived {
                Some((Receiver::Host(id), _)) => plan.host(id).to_owned(),
                Some((Receiver::Device(id) | Receiver::Answering(id, _), _)) => plan.device(id).to_owned(),
                _ => ends.map(|e| e.destination.address.to_string()).unwrap_or_default(),
            },
        }
    }

    fn hop(self, hop: &Hop) -> HopShape<'a> {
        let side = |interface, packet: Packet| {
            let (source, destination) = (packet.source().into(), packet.destination().into());
            let interface = self.naming.interface(hop.device, interface);
            Side { interface, source, destination, next_hop: None, handed: Vec::new() }
        };
        HopShape {
            device: self.naming.device(hop.device),
            r#in: hop.ingress.map(|i| side(i, hop.packet)),
            steps: hop.steps.iter().map(|s| self.step(hop.device, s)).collect(),
            out: hop.exit.map(|out| {
                let (next_hop, handed) = (Some(out.next_hop), self.handed(&hop.handed));
                Side { next_hop, handed, ..side(out.interface, out.packet) }
            }),
        }
    }

    fn handed(self, list: &[Handover]) -> Vec<Handed> {
        list.iter().map(|h| Handed { address: h.address, by: self.taker(h) }).collect()
    }

    fn step(self, device: DeviceId, step: &Step) -> StepShape {
        let (mut reason, mut from, mut to) = (None, None, None);
        match step.result {
            StageResult::Translated { from: was, to: is } => (from, to) = (Some(was.into()), Some(is.into())),
            StageResult::Unchanged(why) | StageResult::Dropped(why) => reason = Some(why.name()),
            _ => {}
        }
        let by = self.by(device, step.by);
        let place = self.position(step.place);
        StepShape { step: step.stage.name(), result: step.result.name(), by, reason, from, to, place }
    }

    /// Everything, for scripts.
    pub fn shape(self) -> Shape<'a> {
        let f = self.followed;
        let hops = |trace: &Trace| trace.hops.iter().map(|h| self.hop(h)).collect();
        let view = |s: Sight| View {
            at: self.vantage(s.at, s.forth),
            source: s.forth.map(|e| e.source.into()),
            destination: s.forth.map(|e| e.destination.into()),
            answer: s.back.map(|e| Ends { source: e.source.into(), destination: e.destination.into() }),
        };
        let device = f.loss.and_then(|l| l.device);
        Shape {
            shape: 1,
            flow: self.naming.flow(&f.flow),
            at: f.at.seconds(),
            class: class_name(f.class),
            delivered: f.delivered(),
            answered: f.answered(),
            reason: f.loss.map(|l| l.reason.name()),
            device: device.map(|d| self.naming.device(d)),
            rule: device.zip(f.loss.and_then(|l| l.rule)).map(|(d, r)| self.naming.rule(d, r)),
            place: self.position(f.loss.and_then(|l| l.place)),
            forth: hops(&f.forth),
            back: hops(&f.back),
            handed: [self.handed(&f.forth.departure), self.handed(&f.back.departure)],
            views: f.views().into_iter().map(view).collect(),
        }
    }

    /// A row for each step, for spreadsheets.
    pub fn csv(self, out: &mut dyn Write) -> io::Result<()> {
        out.write_all(b"way,hop,device,step,result,reason,by,file,line\n")?;
        let mut row = Row::default();
        let f = self.followed;
        for (way, trace) in [("forth", &f.forth), ("back", &f.back)] {
            for (number, hop) in trace.hops.iter().enumerate() {
                for step in hop.steps.iter().map(|s| self.step(hop.device, s)) {
                    row.text(way);
                    row.number(number as u64 + 1);
                    row.text(self.naming.device(hop.device));
                    row.text(step.step);
                    row.text(step.result);
                    row.text(step.reason.unwrap_or(""));
                    row.text(step.by.as_deref().unwrap_or(""));
                    row.text(step.place.as_ref().map_or("", |p| p.file.as_str()));
                    row.text(&step.place.map(|p| p.line.to_string()).unwrap_or_default());
                    row.write(out)?;
                }
            }
        }
        Ok(())
    }

    /// The whole answer, for people.
    pub fn text(self, out: &mut dyn Write, width: usize, verbose: bool) -> io::Result<()> {
        self.verdict(out)?;
        self.ways(out, verbose)?;
        self.views(out, width)
    }

    /// What became of the flow, in a sentence.
    pub fn verdict(self, out: &mut dyn Write) -> io::Result<()> {
        let f = self.followed;
        let (class, style) = match f.class {
            Class::Translated => ("translated, delivered and answered", GOOD),
            Class::Untranslated => ("delivered and answered as it is", CAUTION),
            Class::Refused if f.delivered() => ("delivered, and its answer refused", BAD),
            Class::Undelivered if f.delivered() => ("delivered, and its answer lost", BAD),
            Class::Refused => ("refused", BAD),
            Class::Undelivered => ("not delivered", BAD),
        };
        writeln!(out, "{BOLD}{}{BOLD:#}  {style}{class}{style:#}", self.naming.flow(&f.flow))?;
        let Some(loss) = f.loss else { return Ok(()) };
        let device = loss.device.map(|d| format!(" at {}", self.naming.device(d))).unwrap_or_default();
        let rule = loss.device.zip(loss.rule).map(|(d, r)| format!(", rule {}", self.naming.rule(d, r)));
        let place = self.position(loss.place).map(|p| format!("  {DIM}{p}{DIM:#}")).unwrap_or_default();
        let (reason, rule) = (loss.reason, rule.unwrap_or_default());
        writeln!(out, "{style}{reason}{style:#}{device}{rule}: {}{place}", reason.sentence())
    }

    /// Both ways, hop by hop.
    pub fn ways(self, out: &mut dyn Write, verbose: bool) -> io::Result<()> {
        let f = self.followed;
        let Some((origin, packet)) = f.sent else { return Ok(()) };
        let client = self.vantage(Vantage::Client, None);
        writeln!(out, "\n{BOLD}THERE{BOLD:#}")?;
        if !matches!(origin, Origin::Device(_)) {
            self.line(out, &client, "sends", packet.ends)?;
            self.handovers(out, &f.forth.departure)?;
        }
        self.hops(out, &f.forth, verbose)?;
        let Some((receiver, arrived)) = f.arrived else { return self.end(out, &f.forth) };
        let server = self.vantage(Vantage::Server, Some(arrived.ends));
        let by_device = matches!(receiver, Receiver::Device(_) | Receiver::Answering(..));
        if !by_device {
            self.line(out, &server, "gets", arrived.ends)?;
        }
        if matches!(receiver, Receiver::Device(_)) {
            return Ok(());
        }
        writeln!(out, "\n{BOLD}BACK{BOLD:#}")?;
        if !by_device {
            self.line(out, &server, "sends", arrived.ends.reversed())?;
            self.handovers(out, &f.back.departure)?;
        }
        self.hops(out, &f.back, verbose)?;
        let Some(returned) = f.returned else { return self.end(out, &f.back) };
        if f.answered() {
            return self.line(out, &client, "gets", returned.ends);
        }
        let wanted = packet.destination();
        self.line(out, &client, "drops", returned.ends)?;
        self.remark(out, BAD, &format!("it asked {wanted} and takes an answer from there only"))
    }

    /// The way in short: a line a device, and where it ended.
    pub fn brief(self) -> Vec<String> {
        let f = self.followed;
        let mut lines = Vec::new();
        for trace in [&f.forth, &f.back] {
            let (hops, again) = without_rounds(trace);
            lines.extend(hops.iter().map(|hop| self.hop_brief(hop)));
            lines.extend((again > 0).then(|| rounds(again)));
            let last = hops.last().map_or(trace.departure.as_slice(), |h| h.handed.as_slice());
            lines.extend(last.iter().filter(|h| h.to.is_none()).map(|h| format!("nobody answers for {}", h.address)));
        }
        if let (Some(loss), false) =
            (f.loss, f.answered() || self.is_told(if f.delivered() { &f.back } else { &f.forth }))
        {
            let what = if f.delivered() { "its answer is lost" } else { "it is lost" };
            lines.push(format!("{what}: {}", loss.reason.sentence()));
        }
        lines
    }

    fn hop_brief(self, hop: &Hop) -> String {
        let (device, came) = (self.naming.device(hop.device), hop.packet.ends);
        match (&hop.exit, hop.steps.last()) {
            (Some(exit), _) if exit.packet.ends == came => format!("{device} passes {came}"),
            (Some(exit), _) => format!("{device} makes {} of {came}", exit.packet.ends),
            (None, Some(step)) => {
                let place = self.position(step.place).map(|p| format!(" ({p})")).unwrap_or_default();
                let by = self.by(hop.device, step.by).map(|b| format!(" by {b}")).unwrap_or_default();
                let (text, _) = self.told(hop.device, step);
                format!("{device} has {came}: {} {text}{by}{place}", label(step.stage))
            }
            (None, None) => format!("{device} has {came}"),
        }
    }

    /// Whether a step of a device has said already why the packet goes no further.
    fn is_told(self, trace: &Trace) -> bool {
        let step = trace.hops.last().and_then(|h| h.steps.last()).map(|s| s.result);
        self.followed.loss.is_some_and(|loss| step == Some(StageResult::Dropped(loss.reason)))
    }

    fn hops(self, out: &mut dyn Write, trace: &Trace, verbose: bool) -> io::Result<()> {
        let (hops, again) = without_rounds(trace);
        for hop in hops {
            match hop.ingress {
                Some(ingress) => self.line(out, &self.interface(hop.device, ingress), "in", hop.packet.ends)?,
                None => self.line(out, self.naming.device(hop.device), "sends", hop.packet.ends)?,
            }
            for step in hop.steps.iter().filter(|s| verbose || is_news(s)) {
                self.step_line(out, hop.device, step)?;
            }
            if let Some(exit) = hop.exit {
                self.line(out, &self.interface(hop.device, exit.interface), "out", exit.packet.ends)?;
                self.handovers(out, &hop.handed)?;
            }
        }
        if again > 0 { self.remark(out, CAUTION, &rounds(again)) } else { Ok(()) }
    }

    /// Says where a packet was lost, if no step of a device has said it.
    fn end(self, out: &mut dyn Write, trace: &Trace) -> io::Result<()> {
        match self.followed.loss {
            Some(loss) if !self.is_told(trace) => self.remark(out, BAD, &format!("LOST: {}", loss.reason)),
            _ => Ok(()),
        }
    }

    fn line(self, out: &mut dyn Write, who: &str, does: &str, ends: Tuple) -> io::Result<()> {
        let label = format!("{who} {does}");
        writeln!(out, "{BOLD}{label:30}{BOLD:#}  {ends}")
    }

    fn remark(self, out: &mut dyn Write, style: anstyle::Style, text: &str) -> io::Result<()> {
        writeln!(out, "{:32}{style}{text}{style:#}", "")
    }

    fn handovers(self, out: &mut dyn Write, list: &[Handover]) -> io::Result<()> {
        for handover in list {
            let address = handover.address;
            match self.taker(handover) {
                None => self.remark(out, BAD, &format!("nobody answers for {address}"))?,
                Some(who) if who.starts_with(&address.to_string()) => self.remark(out, DIM, &format!("to {who}"))?,
                Some(who) => self.remark(out, DIM, &format!("to {address}, which {who} answers for"))?,
            }
        }
        Ok(())
    }

    fn step_line(self, out: &mut dyn Write, device: DeviceId, step: &Step) -> io::Result<()> {
        let (text, style) = self.told(device, step);
        let by = self.decider(device, step);
        let place = self.position(step.place).map(|p| format!("  {DIM}{p}{DIM:#}")).unwrap_or_default();
        writeln!(out, "  {:15} {style}{text}{style:#}{by}{place}", label(step.stage))
    }

    /// What decided a step, as the end of its sentence.
    fn decider(self, device: DeviceId, step: &Step) -> String {
        match (self.by(device, step.by), step.result) {
            // it is in the sentence already
            (Some(_), StageResult::Known { .. }) | (None, _) => String::new(),
            (Some(_), _) if matches!(step.by, By::Interface(_)) && step.stage == Stage::Route => {
                " (connected)".to_owned()
            }
            (Some(by), _) if step.stage == Stage::Own => format!(" as {by}"),
            (Some(by), _) => format!(" by {by}"),
        }
    }

    /// A step as evidence, in a sentence.
    pub fn evidence(self, device: DeviceId, step: &Step) -> String {
        let (text, _) = self.told(device, step);
        format!("{text}{}", self.decider(device, step))
    }

    fn told(self, device: DeviceId, step: &Step) -> (String, anstyle::Style) {
        let plain = anstyle::Style::new();
        match step.result {
            StageResult::NotAttached => ("none attached".into(), DIM),
            StageResult::Accepted => ("accepted".into(), plain),
            StageResult::New => ("none yet".into(), DIM),
            StageResult::Known { from_initiator } => {
                let what = if from_initiator { "known" } else { "an answer" };
                let of = self.by(device, step.by).map(|r| format!(", made by {r}")).unwrap_or_default();
                (format!("{what}{of}"), plain)
            }
            StageResult::Translated { from, to } if from == to => (format!("{from} stays"), plain),
            StageResult::Translated { from, to } => (format!("{from} becomes {to}"), GOOD),
            StageResult::Unchanged(Reason::NoRule) => ("as it is: no rule matches".into(), DIM),
            StageResult::Unchanged(reason) => (format!("as it is: {reason}"), CAUTION),
            StageResult::NotOwn => ("no".into(), DIM),
            StageResult::Answered => ("the device answers".into(), plain),
            StageResult::Taken => ("the device takes it".into(), plain),
            StageResult::Routed { interface, next_hop } => {
                (format!("{} to {next_hop}", self.naming.interface(device, interface)), plain)
            }
            StageResult::Committed { mapping: true } => ("a new mapping and session".into(), plain),
            StageResult::Committed { mapping: false } => ("a new session".into(), plain),
            StageResult::Dropped(reason) => (format!("DROPPED: {reason}"), BAD),
        }
    }

    /// What every place sees.
    fn views(self, out: &mut dyn Write, width: usize) -> io::Result<()> {
        let views = self.followed.views();
        if views.is_empty() {
            return Ok(());
        }
        writeln!(out, "\n{BOLD}SEEN{BOLD:#}")?;
        let columns = [
            Column::text("AT"),
            Column::text("FROM"),
            Column::text("TO"),
            Column::text("ANSWER FROM").expendable(2),
            Column::text("ANSWER TO").expendable(1),
        ];
        let cell = |end: Option<Endpoint>| Cell::from(end.map_or(String::new(), |e| e.to_string()));
        let rows: Vec<Vec<Cell>> = views
            .iter()
            .map(|v| {
                let (forth, back) = (v.forth, v.back);
                vec![
                    self.vantage(v.at, v.forth).into(),
                    cell(forth.map(|e| e.source)),
                    cell(forth.map(|e| e.destination)),
                    cell(back.map(|e| e.source)),
                    cell(back.map(|e| e.destination)),
                ]
            })
            .collect();
        table::write(out, &columns, &rows, width).map(|_| ())
    }
}

/// The devices up to where the way repeats itself, and how many there were after that.
fn without_rounds(trace: &Trace) -> (&[Hop], usize) {
    let same = |a: &Hop, b: &Hop| (a.device, a.ingress, a.packet) == (b.device, b.ingress, b.packet);
    let first = (0..trace.hops.len()).find(|i| trace.hops[..*i].iter().any(|h| same(h, &trace.hops[*i])));
    let end = first.unwrap_or(trace.hops.len());
    (&trace.hops[..end], trace.hops.len() - end)
}

fn rounds(again: usize) -> String {
    format!("and round again: {again} more devices the same way")
}

/// Whether a step did anything, or decided anything.
fn is_news(step: &Step) -> bool {
    !matches!(
        step.result,
        StageResult::NotAttached | StageResult::New | StageResult::NotOwn | StageResult::Unchanged(Reason::NoRule)
    ) || step.stage == Stage::Source
}

/// What a step of the search is called for people.
pub fn label_of(step: &str, back: bool) -> &str {
    match (step, back) {
        ("departure", false) => "leaves its sender",
        ("departure", true) => "the answer leaves the server",
        ("handover", _) => "somebody takes it on",
        ("delivery", _) => "it arrives",
        ("answer", _) => "the answer is taken",
        ("ingress-acl", _) => label(Stage::IngressAcl),
        ("destination", _) => label(Stage::Destination),
        ("own-address", _) => label(Stage::Own),
        ("egress-acl", _) => label(Stage::EgressAcl),
        (other, _) => other,
    }
}

fn label(stage: Stage) -> &'static str {
    match stage {
        Stage::IngressAcl => "ingress filter",
        Stage::Session => "session",
        Stage::Destination => "destination",
        Stage::Own => "for itself?",
        Stage::Route => "route",
        Stage::Policy => "policy",
        Stage::Source => "source",
        Stage::EgressAcl => "egress filter",
        Stage::Commit => "kept",
    }
}

/// Two names, or one if they are the same.
fn distinct_names(a: Option<String>, b: Option<String>) -> String {
    let b = b.filter(|b| Some(b) != a.as_ref());
    a.into_iter().chain(b).collect::<Vec<_>>().join(", ")
}
