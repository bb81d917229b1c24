//! The answer of `impact`: packets that something else becomes of, each class as a box that can be
//! read.

use std::io::{self, Write};

use serde::Serialize;
use zarnet_analysis::impact::{ChangedClass, Impact};
use zarnet_analysis::space::{Field, Meaning};
use zarnet_core::device::SessionRow;

use super::csv::Row;
use super::packets::{addresses, flow, outcome, service};
use super::table::{self, BAD, BOLD, CAUTION, Cell, Column, DIM, GOOD, count};

/// What a change of the plan does to a session that lives.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Fate {
    /// Nothing: the new plan would make the same of it.
    Same,
    /// It goes on as it was, though the new plan would make something else of it, until it ends or
    /// is cleared.
    Lingers,
    /// The session ends with the change.
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
    /// Name of the session's device.
    pub device: String,
    /// The session as it is before the change.
    pub session: SessionRow,
    /// What becomes of it.
    pub fate: Fate,
}

/// What was found, with the names of both plans.
#[derive(Clone, Copy)]
pub struct ImpactAnswer<'a> {
    /// What the change changes.
    pub found: &'a Impact,
    /// Sessions of a day that linger or break, where a day was given.
    pub live: Option<&'a [Live]>,
    /// Whether to say what else could be asked.
    pub hint: bool,
}

/// The answer as a shape.
#[derive(Serialize)]
pub struct ImpactShape<'a> {
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

/// The way out, where both have one.
fn into(class: &ChangedClass) -> Vec<String> {
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
fn outcomes(class: &ChangedClass) -> (String, String) {
    let (before, after) =
        (outcome(&class.before, class.witness), outcome(&class.after, class.witness));
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

impl<'a> ImpactAnswer<'a> {
    /// The whole answer as JSON has it.
    pub fn shape(self) -> ImpactShape<'a> {
        let class = |c: &'a ChangedClass| {
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
        let setting = |s: &'a (String, String, String, String)| Setting {
            device: &s.0,
            key: &s.1,
            before: &s.2,
            after: &s.3,
        };
        let session = |l: &'a Live| SessionShape {
            device: &l.device,
            fate: l.fate.name(),
            protocol: l.session.protocol.to_string(),
            source: l.session.original.source.to_string(),
            destination: l.session.original.destination.to_string(),
            translated: l.session.translated.to_string(),
        };
        ImpactShape {
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
            for text in [
                c.device,
                &from,
                &into,
                &c.source,
                &c.destination,
                &c.service,
                &c.before,
                &c.after,
                &c.witness,
            ] {
                row.text(text);
            }
            row.write(out)?;
        }
        Ok(())
    }

    /// Writes the answer as text.
    pub fn text(
        self,
        out: &mut dyn Write,
        width: usize,
        rows: usize,
        verbose: bool,
    ) -> io::Result<()> {
        let found = self.found;
        if found.is_empty() {
            writeln!(
                out,
                "{GOOD}the two plans mean the same{GOOD:#}: no first packet and no setting differs"
            )?;
            return self.sessions(out, width, rows);
        }
        if !found.uncompared.is_empty() {
            let names = found.uncompared.join(", ");
            writeln!(
                out,
                "{BAD}not compared{BAD:#}: {names} tells apart more classes of packets than are \
                 gone through (docs/limits.md)"
            )?;
        }
        for (what, names) in [("gone", &found.gone), ("new", &found.new)] {
            if !names.is_empty() {
                writeln!(out, "{BOLD}{what}{BOLD:#}: {}", names.join(", "))?;
            }
        }
        let shown = if rows == 0 { usize::MAX } else { rows };
        let dropped = |c: &&ChangedClass| {
            matches!((&c.before, &c.after), (Meaning::Dropped(_), Meaning::Dropped(_)))
        };
        let (still, told): (Vec<&ChangedClass>, Vec<&ChangedClass>) =
            found.classes.iter().partition(|c| !verbose && dropped(c));
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
            writeln!(
                out,
                "{DIM}{shown} of {} classes shown; --rows 0 shows all{DIM:#}",
                told.len()
            )?;
        }
        if told.is_empty() {
            writeln!(out, "{GOOD}no first packet fares otherwise{GOOD:#}")?;
        } else {
            let classes = count(told.len() as u64, "class", "classes");
            writeln!(out, "{BOLD}{classes}{BOLD:#} of first packets; all others fare as before")?;
        }
        if !still.is_empty() {
            let classes = count(still.len() as u64, "class is", "classes are");
            writeln!(
                out,
                "{DIM}{classes} dropped as before, for another reason; -v shows them{DIM:#}"
            )?;
        }
        for (device, key, before, after) in &found.settings {
            let (before, after) = (
                if before.is_empty() { "none" } else { before },
                if after.is_empty() { "none" } else { after },
            );
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
                "{DIM}next: --during TRAFFIC --at TIME tells which live sessions linger or \
                 break{DIM:#}"
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
