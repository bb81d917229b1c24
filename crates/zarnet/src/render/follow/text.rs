//! A followed flow for people: the way hop by hop, in full or in short, and what every place sees.

use std::io::{self, Write};

use zarnet_core::net::{Endpoint, Tuple};
use zarnet_core::network::{Handover, Hop, Origin, Receiver, Trace};
use zarnet_core::observe::{By, Stage, StageResult, Step};
use zarnet_core::plan::DeviceId;
use zarnet_core::predict::ObservationPoint;
use zarnet_core::{Class, Reason};

use super::Story;
use crate::render::table::{self, BAD, BOLD, CAUTION, Cell, Column, DIM, GOOD};

impl Story<'_> {
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
            Class::Untranslated if f.loss.is_some_and(|l| l.reason == Reason::LinkOnly) => {
                ("stays on its link, as it is", CAUTION)
            }
            Class::Untranslated => ("delivered and answered as it is", CAUTION),
            Class::Refused if f.delivered() => ("delivered, and its answer refused", BAD),
            Class::Undelivered if f.delivered() => ("delivered, and its answer lost", BAD),
            Class::Refused => ("refused", BAD),
            Class::Undelivered => ("not delivered", BAD),
        };
        writeln!(out, "{BOLD}{}{BOLD:#}  {style}{class}{style:#}", self.naming.flow(&f.flow))?;
        let Some(loss) = f.loss else { return Ok(()) };
        let device =
            loss.device.map(|d| format!(" at {}", self.naming.device(d))).unwrap_or_default();
        let rule =
            loss.device.zip(loss.rule).map(|(d, r)| format!(", rule {}", self.naming.rule(d, r)));
        let place =
            self.position(loss.place).map(|p| format!("  {DIM}{p}{DIM:#}")).unwrap_or_default();
        let (reason, rule) = (loss.reason, rule.unwrap_or_default());
        writeln!(out, "{style}{reason}{style:#}{device}{rule}: {}{place}", reason.sentence())
    }

    /// Both ways, hop by hop.
    pub fn ways(self, out: &mut dyn Write, verbose: bool) -> io::Result<()> {
        let f = self.followed;
        let Some((origin, packet)) = f.sent else { return Ok(()) };
        let client = self.observation_point(ObservationPoint::Client, None);
        writeln!(out, "\n{BOLD}THERE{BOLD:#}")?;
        if !matches!(origin, Origin::Device(..)) {
            self.line(out, &client, "sends", packet.ends)?;
            self.handovers(out, &f.forth.departure)?;
        }
        self.hops(out, &f.forth, verbose)?;
        let Some((receiver, arrived)) = f.arrived else { return self.end(out, &f.forth) };
        let server = self.observation_point(ObservationPoint::Server, Some(arrived.ends));
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
            lines.extend(
                last.iter()
                    .filter(|h| h.to.is_none())
                    .map(|h| format!("nobody answers for {}", h.address)),
            );
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
                let place =
                    self.position(step.place).map(|p| format!(" ({p})")).unwrap_or_default();
                let by =
                    self.by(hop.device, step.by).map(|b| format!(" by {b}")).unwrap_or_default();
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
                Some(ingress) => {
                    self.line(out, &self.interface(hop.device, ingress), "in", hop.packet.ends)?
                }
                None => self.line(out, self.naming.device(hop.device), "sends", hop.packet.ends)?,
            }
            for step in hop.steps.iter().filter(|s| verbose || is_news(s)) {
                self.step_line(out, hop.device, step)?;
            }
            if let Some(exit) = hop.exit {
                self.line(
                    out,
                    &self.interface(hop.device, exit.interface),
                    "out",
                    exit.packet.ends,
                )?;
                self.handovers(out, &hop.handed)?;
            }
        }
        if again > 0 { self.remark(out, CAUTION, &rounds(again)) } else { Ok(()) }
    }

    /// Says where a packet was lost, if no step of a device has said it.
    fn end(self, out: &mut dyn Write, trace: &Trace) -> io::Result<()> {
        match self.followed.loss {
            Some(loss) if !self.is_told(trace) => {
                self.remark(out, BAD, &format!("LOST: {}", loss.reason))
            }
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
            let style = if handover.to.is_some() { DIM } else { BAD };
            self.remark(out, style, &self.handover(handover))?;
        }
        Ok(())
    }

    /// Who answers for the next address.
    pub fn handover(self, handover: &Handover) -> String {
        let address = handover.address;
        match self.owner(handover) {
            None => format!("nobody answers for {address}"),
            Some(who) if who.starts_with(&address.to_string()) => format!("to {who}"),
            Some(who) => format!("to {address}, which {who} answers for"),
        }
    }

    fn step_line(self, out: &mut dyn Write, device: DeviceId, step: &Step) -> io::Result<()> {
        let (text, style) = self.told(device, step);
        let by = self.decider(device, step);
        let place =
            self.position(step.place).map(|p| format!("  {DIM}{p}{DIM:#}")).unwrap_or_default();
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
                let of =
                    self.by(device, step.by).map(|r| format!(", made by {r}")).unwrap_or_default();
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
                    self.observation_point(v.at, v.forth).into(),
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
    let same =
        |a: &Hop, b: &Hop| (a.device, a.ingress, a.packet) == (b.device, b.ingress, b.packet);
    let first =
        (0..trace.hops.len()).find(|i| trace.hops[..*i].iter().any(|h| same(h, &trace.hops[*i])));
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
        StageResult::NotAttached
            | StageResult::New
            | StageResult::NotOwn
            | StageResult::Unchanged(Reason::NoRule)
    ) || step.stage == Stage::Source
}

/// What a step of the search is called for people.
pub fn label_of(step: &str, back: bool) -> &str {
    match (step, back) {
        ("departure", false) => "leaves its sender",
        ("departure", true) => "the answer leaves the server",
        ("handover", _) => "handed on",
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
