//! The answer of `impact`: packets that something else becomes of, each class as a box that can be read.

use std::io::{self, Write};

use serde::Serialize;
use zarnet_core::device::SessionRow;
use zarnet_core::impact::{Class, Impact};
use zarnet_core::net::{Packet, PortRange, Protocol, Service};
use zarnet_core::space::{Area, DestinationMeaning, Field, Intervals, Meaning, SourceMeaning, address, number};

use super::csv::Row;
use super::table::{self, BAD, BOLD, CAUTION, Cell, Column, DIM, GOOD, count};

/// What a change of the plan does to a session that lives.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Fate {
    /// Nothing: the new plan would make the same of it.
    Same,
    /// It goes on as it was, though the new plan would make something else of it, until it ends or is cleared.
    Lingers,
    /// It ends.
    Breaks,
}

impl Fate {
    fn name(self) -> &'static str {
        match self {
            Self::Same => "same",
            Self::Lingers => "lingers",
            Self::Breaks => "breaks",
        }
    }
}

/// A session that lives when the plan changes.
pub struct Live {
    /// Its device.
    pub device: String,
    /// The session.
    pub session: SessionRow,
    /// What becomes of it.
    pub fate: Fate,
}

/// What was found, with the names of both plans.
#[derive(Clone, Copy)]
pub struct Answer<'a> {
    /// What differs.
    pub found: &'a Impact,
    /// Sessions of a day that linger or break, where a day was given.
    pub live: Option<&'a [Live]>,
    /// Whether to say what else could be asked.
    pub hint: bool,
}

/// The answer as a shape.
#[derive(Serialize)]
pub struct Shape<'a> {
    shape: u32,
    classes: Vec<ClassShape<'a>>,
    gone: &'a [String],
    new: &'a [String],
    settings: Vec<Setting<'a>>,
    sessions: Vec<SessionShape<'a>>,
    /// Devices with more classes than are compared.
    #[serde(skip_serializing_if = "<[_]>::is_empty")]
    uncompared: &'a [String],
}

#[derive(Serialize)]
struct ClassShape<'a> {
    device: &'a str,
    from: &'a [String],
    into: Vec<String>,
    source: String,
    destination: String,
    service: String,
    before: String,
    after: String,
    witness: String,
}

#[derive(Serialize)]
struct Setting<'a> {
    device: &'a str,
    key: &'a str,
    before: &'a str,
    after: &'a str,
}

#[derive(Serialize)]
struct SessionShape<'a> {
    device: &'a str,
    fate: &'static str,
    protocol: String,
    source: String,
    destination: String,
    translated: String,
}

/// A packet as a flow is written.
pub fn flow(packet: Packet) -> String {
    format!("{} -> {}/{}", packet.source(), packet.destination(), packet.protocol)
}

/// A set of addresses: ranges and prefixes, or `any`, or all but a few.
pub fn addresses(set: &Intervals) -> String {
    let (v4, all) = (Intervals::ipv4(), Intervals::all(Field::Source));
    if *set == all || *set == v4 {
        return "any".to_owned();
    }
    let within = set.intersection(&v4);
    // what IPv6 has besides says nothing where all of IPv4 is told
    let list = if within.is_empty() { set.clone() } else { within };
    let inverse = v4.difference(&list);
    let (text, other) = (ranges(&list), ranges(&inverse));
    if list.intersection(&v4) == list && other.len() < text.len() && !inverse.is_empty() {
        return format!("any but {other}");
    }
    text
}

fn ranges(set: &Intervals) -> String {
    let one = |(a, b): &(u128, u128)| {
        let count = b - a + 1;
        let prefix = count.is_power_of_two() && a.is_multiple_of(count);
        match (a == b, prefix) {
            (true, _) => address(*a).to_string(),
            (_, true) => {
                let bits = if address(*a).is_ipv4() { 32 } else { 128 };
                format!("{}/{}", address(*a), bits - count.trailing_zeros())
            }
            _ => format!("{}-{}", address(*a), address(*b)),
        }
    };
    set.list().iter().map(one).collect::<Vec<_>>().join(", ")
}

fn ports(set: &Intervals) -> Option<String> {
    let full = set.list() == [(0, 65_535)] || set.list() == [(1, 65_535)];
    // nobody sends to port 0
    let range =
        |(a, b): &(u128, u128)| PortRange { first: (*a as u16).max(u16::from(*b > 0)), last: *b as u16 }.to_string();
    (!full).then(|| set.list().iter().map(range).collect::<Vec<_>>().join(","))
}

/// The services of an area: protocol and port of the destination, and of the source where that matters.
pub fn service(area: &Area) -> String {
    let protocols = area.of(Field::Protocol);
    let to = ports(area.of(Field::DestinationPort));
    let from = ports(area.of(Field::SourcePort)).filter(|_| area.of(Field::SourcePort).count() < 65_000);
    let named: Vec<String> = if *protocols == Intervals::all(Field::Protocol) {
        vec!["any".to_owned()]
    } else if protocols.count() > 8 {
        let known = [Protocol::TCP, Protocol::UDP, Protocol::ICMP, Protocol::SCTP, Protocol::DCCP];
        let missing: Vec<String> =
            known.iter().filter(|p| !protocols.contains(p.0.into())).map(ToString::to_string).collect();
        vec![if missing.is_empty() { "any".to_owned() } else { format!("any but {}", missing.join(", ")) }]
    } else {
        let each = protocols.list().iter().flat_map(|(a, b)| *a..=*b);
        each.map(|p| Service { protocol: Some(Protocol(p as u8)), ports: PortRange::ALL }.to_string()).collect()
    };
    let base = match to {
        Some(to) => named.iter().map(|p| format!("{to}/{p}")).collect::<Vec<_>>().join(", "),
        None => named.join(", "),
    };
    from.map_or(base.clone(), |from| format!("{base} from port {from}"))
}

/// What becomes of a packet, in a few words.
pub fn outcome(meaning: &Meaning, witness: Packet) -> String {
    let Meaning::Leaves { destination, source, .. } = meaning else {
        return match meaning {
            Meaning::Dropped(reason) => format!("dropped: {reason}"),
            _ => "for the device itself".to_owned(),
        };
    };
    let moved = |by: &(u128, u16), a: std::net::IpAddr, port: u16| {
        let end = address(number(a).wrapping_add(by.0));
        match by.1 {
            0 => end.to_string(),
            by => format!("{end}:{}", port.wrapping_add(by)),
        }
    };
    let mut parts = Vec::new();
    match destination {
        DestinationMeaning::Same => {}
        DestinationMeaning::Moved(by, port) => {
            let to = witness.destination();
            parts.push(format!("to {}", moved(&(*by, *port), to.address, to.port)));
        }
        DestinationMeaning::Servers(servers, by_source) => {
            let list: Vec<String> = servers.iter().map(|s| s.0.to_string()).collect();
            parts.push(format!("to one of {}{}", list.join(", "), if *by_source { " by source" } else { "" }));
        }
        DestinationMeaning::Prefix(_, inside, _) => parts.push(format!("to the prefix of {inside}")),
    }
    match source {
        SourceMeaning::Same => {}
        SourceMeaning::Moved(by, port) => {
            let from = witness.source();
            parts.push(format!("as {}", moved(&(*by, *port), from.address, from.port)));
        }
        SourceMeaning::Prefix(_, outside, _) => parts.push(format!("as the prefix of {outside}")),
        SourceMeaning::Chosen { from, whole, pick } => {
            let range =
                |(a, b): &(std::net::IpAddr, std::net::IpAddr)| if a == b { a.to_string() } else { format!("{a}-{b}") };
            let list: Vec<String> = from.iter().map(range).collect();
            let kind = if *whole { "a whole address of " } else { "" };
            let pick = pick.map(|p| format!(", {p}")).unwrap_or_default();
            let by = if *whole { "" } else { " by port" };
            parts.push(format!("as {kind}{}{by}{pick}", list.join(", ")));
        }
    }
    if parts.is_empty() { "passes as it is".to_owned() } else { parts.join(", ") }
}

/// The way out, where both have one.
fn into(class: &Class) -> Vec<String> {
    let mut list: Vec<String> = Vec::new();
    for meaning in [&class.before, &class.after] {
        if let Meaning::Leaves { egress, .. } = meaning
            && !list.contains(egress)
        {
            list.push(egress.clone());
        }
    }
    list
}

/// Before and after: with the way out, where only that differs.
fn outcomes(class: &Class) -> (String, String) {
    let (before, after) = (outcome(&class.before, class.witness), outcome(&class.after, class.witness));
    if before != after {
        return (before, after);
    }
    let way = |m: &Meaning| match m {
        Meaning::Leaves { egress, next_hop, .. } => {
            let hop = next_hop.map(|h| format!(" to {h}")).unwrap_or_default();
            format!(" by {egress}{hop}")
        }
        _ => String::new(),
    };
    (before + &way(&class.before), after + &way(&class.after))
}

impl<'a> Answer<'a> {
    /// Everything, for scripts.
    pub fn shape(self) -> Shape<'a> {
        let class = |c: &'a Class| {
            let (before, after) = outcomes(c);
            ClassShape {
                device: &c.device,
                from: &c.from,
                into: into(c),
                source: addresses(c.area.of(Field::Source)),
                destination: addresses(c.area.of(Field::Destination)),
                service: service(&c.area),
                before,
                after,
                witness: flow(c.witness),
            }
        };
        let setting =
            |s: &'a (String, String, String, String)| Setting { device: &s.0, key: &s.1, before: &s.2, after: &s.3 };
        let session = |l: &'a Live| SessionShape {
            device: &l.device,
            fate: l.fate.name(),
            protocol: l.session.protocol.to_string(),
            source: l.session.original.source.to_string(),
            destination: l.session.original.destination.to_string(),
            translated: l.session.translated.to_string(),
        };
        Shape {
            shape: 1,
            classes: self.found.classes.iter().map(class).collect(),
            gone: &self.found.gone,
            new: &self.found.new,
            settings: self.found.settings.iter().map(setting).collect(),
            sessions: self.live.unwrap_or_default().iter().map(session).collect(),
            uncompared: &self.found.uncompared,
        }
    }

    /// A row for each class.
    pub fn csv(self, out: &mut dyn Write) -> io::Result<()> {
        out.write_all(b"device,from,into,source,destination,service,before,after,witness\n")?;
        let mut row = Row::default();
        for c in self.shape().classes {
            let from = c.from.join(" ");
            let into = c.into.join(" ");
            for text in [c.device, &from, &into, &c.source, &c.destination, &c.service, &c.before, &c.after, &c.witness]
            {
                row.text(text);
            }
            row.write(out)?;
        }
        Ok(())
    }

    /// Everything, for people.
    pub fn text(self, out: &mut dyn Write, width: usize, rows: usize, verbose: bool) -> io::Result<()> {
        let found = self.found;
        if found.is_empty() {
            writeln!(out, "{GOOD}the two plans mean the same{GOOD:#}: no first packet and no setting differs")?;
            return self.sessions(out, width, rows);
        }
        if !found.uncompared.is_empty() {
            let names = found.uncompared.join(", ");
            writeln!(
                out,
                "{BAD}not compared{BAD:#}: {names} tells apart more classes of packets than are gone through (docs/limits.md)"
            )?;
        }
        for (what, names) in [("gone", &found.gone), ("new", &found.new)] {
            if !names.is_empty() {
                writeln!(out, "{BOLD}{what}{BOLD:#}: {}", names.join(", "))?;
            }
        }
        let shown = if rows == 0 { usize::MAX } else { rows };
        let dropped = |c: &&Class| matches!((&c.before, &c.after), (Meaning::Dropped(_), Meaning::Dropped(_)));
        let (still, told): (Vec<&Class>, Vec<&Class>) = found.classes.iter().partition(|c| !verbose && dropped(c));
        for (n, c) in told.iter().take(shown).enumerate() {
            let (before, after) = outcomes(c);
            writeln!(out, "{BOLD}{}. {} from {}{BOLD:#}", n + 1, c.device, c.from.join(", "))?;
            let lines = [
                ("source", addresses(c.area.of(Field::Source))),
                ("destination", addresses(c.area.of(Field::Destination))),
                ("service", service(&c.area)),
            ];
            for (key, value) in lines {
                writeln!(out, "   {key:<11}  {}", shortened(&value, width.saturating_sub(16)))?;
            }
            let color = |m: &Meaning| if matches!(m, Meaning::Dropped(_)) { BAD } else { GOOD };
            let (was, is) = (color(&c.before), color(&c.after));
            writeln!(out, "   {:<11}  {was}{before}{was:#}", "before")?;
            writeln!(out, "   {:<11}  {is}{after}{is:#}", "after")?;
            writeln!(out, "   {:<11}  {DIM}{}{DIM:#}", "for example", flow(c.witness))?;
        }
        if told.len() > shown {
            writeln!(out, "{DIM}{shown} of {} classes shown; --rows 0 shows all{DIM:#}", told.len())?;
        }
        if told.is_empty() {
            writeln!(out, "{GOOD}no first packet fares otherwise{GOOD:#}")?;
        } else {
            let classes = count(told.len() as u64, "class", "classes");
            writeln!(out, "{BOLD}{classes}{BOLD:#} of first packets; all others fare as before")?;
        }
        if !still.is_empty() {
            let classes = count(still.len() as u64, "class is", "classes are");
            writeln!(out, "{DIM}{classes} dropped as before, for another reason; -v shows them{DIM:#}")?;
        }
        for (device, key, before, after) in &found.settings {
            let (before, after) =
                (if before.is_empty() { "none" } else { before }, if after.is_empty() { "none" } else { after });
            writeln!(out, "{CAUTION}{device}: {key}{CAUTION:#} was {before}, is {after}")?;
        }
        self.sessions(out, width, rows)
    }

    fn sessions(self, out: &mut dyn Write, width: usize, rows: usize) -> io::Result<()> {
        let Some(live) = self.live else {
            if !self.hint {
                return Ok(());
            }
            return writeln!(
                out,
                "{DIM}next: --during TRAFFIC --at TIME tells which live sessions linger or break{DIM:#}"
            );
        };
        writeln!(out)?;
        if live.is_empty() {
            return writeln!(out, "{GOOD}no live session lingers or breaks{GOOD:#}");
        }
        writeln!(out, "{BOLD}Live sessions{BOLD:#} that the new plan would not make so")?;
        let columns = [
            Column::text("FATE"),
            Column::text("DEVICE").expendable(1),
            Column::text("PROTOCOL"),
            Column::text("SOURCE"),
            Column::text("DESTINATION"),
            Column::text("TRANSLATED").expendable(2),
        ];
        let shown = if rows == 0 { usize::MAX } else { rows };
        let row = |l: &Live| -> Vec<Cell> {
            let style = if l.fate == Fate::Breaks { BAD } else { CAUTION };
            vec![
                Cell::styled(l.fate.name(), style),
                l.device.as_str().into(),
                l.session.protocol.to_string().into(),
                l.session.original.source.to_string().into(),
                l.session.original.destination.to_string().into(),
                l.session.translated.to_string().into(),
            ]
        };
        let cells: Vec<Vec<Cell>> = live.iter().take(shown).map(row).collect();
        table::write(out, &columns, &cells, width)?;
        if live.len() > shown {
            writeln!(out, "{DIM}{shown} of {} shown; --rows 0 shows all{DIM:#}", live.len())?;
        }
        let breaks = live.iter().filter(|l| l.fate == Fate::Breaks).count() as u64;
        let lingers = live.len() as u64 - breaks;
        writeln!(
            out,
            "{} on as before until idle or cleared; {}",
            count(lingers, "session goes", "sessions go"),
            count(breaks, "breaks", "break")
        )
    }
}

/// A text that fits, with what was left out told.
fn shortened(text: &str, width: usize) -> String {
    if text.chars().count() <= width.max(20) {
        return text.to_owned();
    }
    let parts: Vec<&str> = text.split(", ").collect();
    let mut kept = String::new();
    for (i, part) in parts.iter().enumerate() {
        let more = format!(" and {} more", parts.len() - i);
        if i > 0 && kept.len() + part.len() + more.len() + 2 > width {
            return kept + &more;
        }
        if i > 0 {
            kept.push_str(", ");
        }
        kept.push_str(part);
    }
    kept
}
