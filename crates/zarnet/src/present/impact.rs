//! The answer of `impact` as text.

use std::io::{self, Write};

use zarnet_analysis::answer::impact::{ImpactAnswer, outcomes};
use zarnet_analysis::answer::packets::{addresses, flow, service};
use zarnet_analysis::impact::{ChangedClass, LiveSession, SessionFate};
use zarnet_analysis::space::{Field, Meaning};

use super::View;
use super::table::{self, BAD, BOLD, CAUTION, Cell, Column, DIM, GOOD, count};

/// Writes the answer; `hint`: whether to say what else could be asked.
pub fn text(
    answer: ImpactAnswer<'_>,
    out: &mut dyn Write,
    View { width, rows, verbose }: View,
    hint: bool,
) -> io::Result<()> {
    let found = answer.found;
    if found.is_empty() {
        writeln!(
            out,
            "{GOOD}the two plans mean the same{GOOD:#}: no first packet and no setting differs"
        )?;
        return sessions(answer, out, (width, rows), hint);
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
    sessions(answer, out, (width, rows), hint)
}

fn sessions(
    answer: ImpactAnswer<'_>,
    out: &mut dyn Write,
    (width, rows): (usize, usize),
    hint: bool,
) -> io::Result<()> {
    let Some(live) = answer.live else {
        if !hint {
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
    let row = |l: &LiveSession| -> Vec<Cell> {
        let style = if l.fate == SessionFate::Breaks { BAD } else { CAUTION };
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
    let breaks = live.iter().filter(|l| l.fate == SessionFate::Breaks).count() as u64;
    let lingers = live.len() as u64 - breaks;
    writeln!(
        out,
        "{} on as before until idle or cleared; {}",
        count(lingers, "session goes", "sessions go"),
        count(breaks, "breaks", "break")
    )
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
