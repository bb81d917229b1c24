//! The answer of `impact` as text.

use std::io::{self, Write};

use zarnet_analysis::answer::impact::{Effect, ImpactAnswer, outcomes};
use zarnet_analysis::answer::packets::{addresses, flow, service};
use zarnet_analysis::impact::{ChangedClass, ChangedSetting, LiveSession, SessionFate};
use zarnet_analysis::space::Field;

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
            "{GOOD}the two plans mean the same{GOOD:#}: every first packet is treated as before, \
             and every other setting is equal"
        )?;
        rewritten(answer, out, (width, rows))?;
        return sessions(answer, out, (width, rows), hint);
    }
    if !found.uncompared.is_empty() {
        let names = found.uncompared.join(", ");
        writeln!(
            out,
            "{BAD}not compared{BAD:#}: {names} has more classes of packets than are compared \
             (docs/limits.md)"
        )?;
    }
    for (what, names) in [("gone", &found.gone), ("new", &found.new)] {
        if !names.is_empty() {
            writeln!(out, "{BOLD}{what}{BOLD:#}: {}", names.join(", "))?;
        }
    }
    let (still, told): (Vec<&ChangedClass>, Vec<&ChangedClass>) =
        found.classes.iter().partition(|c| !verbose && Effect::of(c) == Effect::StillDropped);
    let (told, unlikely): (Vec<&ChangedClass>, Vec<&ChangedClass>) =
        told.into_iter().partition(|c| verbose || c.likely);
    let groups = by_piece(&told);
    let mut left = if rows == 0 { usize::MAX } else { rows };
    let mut number = 0;
    for (piece, classes) in &groups {
        writeln!(out, "{BOLD}{piece}{BOLD:#}: {}", effects(classes))?;
        for c in classes {
            number += 1;
            if left > 0 {
                left -= 1;
                class(out, number, c, width)?;
            }
        }
    }
    if told.len() > rows && rows > 0 {
        let all = told.len();
        writeln!(out, "{DIM}{rows} of {all} classes shown; --rows 0 shows all{DIM:#}")?;
    }
    if told.is_empty() && unlikely.is_empty() && still.is_empty() {
        writeln!(out, "{GOOD}no first packet is affected{GOOD:#}")?;
    } else if told.is_empty() {
        writeln!(out, "{GOOD}no first packet that anybody would send is affected{GOOD:#}")?;
    } else {
        let classes = count(told.len() as u64, "class", "classes");
        writeln!(
            out,
            "{BOLD}{classes}{BOLD:#} of first packets ({}); {}",
            effects(&told),
            if unlikely.is_empty() && still.is_empty() {
                "all others are unaffected"
            } else {
                "but for the following, all others are unaffected"
            }
        )?;
    }
    if !unlikely.is_empty() {
        let classes = count(unlikely.len() as u64, "class is", "classes are");
        writeln!(
            out,
            "{DIM}{classes} of senders that do not lie behind the interface they come in by ({}); \
             -v shows them{DIM:#}",
            anstream::adapter::strip_str(&effects(&unlikely))
        )?;
    }
    if !still.is_empty() {
        let classes = count(still.len() as u64, "class is", "classes are");
        writeln!(
            out,
            "{DIM}{classes} dropped as before, for another reason; -v shows them{DIM:#}"
        )?;
    }
    for setting in &found.settings {
        writeln!(out, "{}", changed(setting, CAUTION, width))?;
    }
    rewritten(answer, out, (width, rows))?;
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
            "{DIM}next: --during TRAFFIC --at TIME shows which live sessions linger or break{DIM:#}"
        );
    };
    writeln!(out)?;
    if live.is_empty() {
        return writeln!(out, "{GOOD}no live session lingers or breaks{GOOD:#}");
    }
    writeln!(out, "{BOLD}Live sessions{BOLD:#} that the new plan would translate differently")?;
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

/// A key with its value before and after, and what it means.
fn changed(setting: &ChangedSetting, style: anstyle::Style, width: usize) -> String {
    let none = |text: &str| match text {
        "" => "none".to_owned(),
        text => shortened(text, width.min(120) / 2),
    };
    let parts = [setting.device.as_deref().unwrap_or(""), &setting.item, &setting.key];
    let name = parts.into_iter().filter(|p| !p.is_empty()).collect::<Vec<_>>().join(", ");
    let change = match (setting.key.as_str(), setting.before.as_str(), setting.after.as_str()) {
        ("", "declared", _) => "is gone".to_owned(),
        ("", _, "declared") => "is new".to_owned(),
        ("", before, "") => format!("is gone: {}", none(before)),
        ("", "", after) => format!("is new: {}", none(after)),
        (_, before, after) => format!("was {}, is {}", none(before), none(after)),
    };
    let meaning = match setting.meaning {
        "" => String::new(),
        meaning => format!(" {DIM}({meaning}){DIM:#}"),
    };
    format!("{style}{name}{style:#} {change}{meaning}")
}

/// What is written otherwise, and changes nothing.
fn rewritten(
    answer: ImpactAnswer<'_>,
    out: &mut dyn Write,
    (width, rows): (usize, usize),
) -> io::Result<()> {
    let list = &answer.found.rewritten;
    if list.is_empty() {
        return Ok(());
    }
    writeln!(out, "{DIM}written otherwise, without effect on any first packet:{DIM:#}")?;
    let shown = if rows == 0 { list.len() } else { rows.min(list.len()) };
    for setting in &list[..shown] {
        writeln!(
            out,
            "  {}",
            changed(&ChangedSetting { meaning: "", ..setting.clone() }, DIM, width)
        )?;
    }
    if shown < list.len() {
        writeln!(out, "{DIM}{shown} of {} shown; --rows 0 shows all{DIM:#}", list.len())?;
    }
    Ok(())
}

/// Classes by the piece of the plan that they are owed to, in the order of their first; those that
/// take several pieces last.
fn by_piece<'a>(classes: &[&'a ChangedClass]) -> Vec<(&'a str, Vec<&'a ChangedClass>)> {
    let mut groups: Vec<(&str, Vec<&ChangedClass>)> = Vec::new();
    let mut together = Vec::new();
    for &c in classes {
        let Some(piece) = c.piece.as_deref() else {
            together.push(c);
            continue;
        };
        match groups.iter_mut().find(|g| g.0 == piece) {
            Some(group) => group.1.push(c),
            None => groups.push((piece, vec![c])),
        }
    }
    if !together.is_empty() {
        groups.push(("the change as a whole", together));
    }
    groups
}

/// How many classes are gained, lost and changed.
fn effects(classes: &[&ChangedClass]) -> String {
    let all = [Effect::Lost, Effect::Gained, Effect::Changed, Effect::StillDropped];
    let parts = all.into_iter().filter_map(|effect| {
        let n = classes.iter().filter(|c| Effect::of(c) == effect).count();
        let style = style_of(effect);
        (n > 0).then(|| format!("{style}{n} {}{style:#}", effect.name()))
    });
    parts.collect::<Vec<_>>().join(", ")
}

fn style_of(effect: Effect) -> anstyle::Style {
    match effect {
        Effect::Gained => GOOD,
        Effect::Lost => BAD,
        Effect::Changed => CAUTION,
        Effect::StillDropped => DIM,
    }
}

/// One class: which packets, and what became and becomes of them.
fn class(out: &mut dyn Write, number: usize, c: &ChangedClass, width: usize) -> io::Result<()> {
    let (before, after) = outcomes(c);
    let effect = Effect::of(c);
    let style = style_of(effect);
    let from = c.from.join(", ");
    writeln!(out, "{number:>3}. {style}{}{style:#}  {} from {from}", effect.name(), c.device)?;
    let lines = [
        ("source", addresses(c.area.of(Field::Source))),
        ("destination", addresses(c.area.of(Field::Destination))),
        ("service", service(&c.area)),
    ];
    for (key, value) in lines {
        writeln!(out, "     {key:<11}  {}", shortened(&value, width.min(120) - 18))?;
    }
    writeln!(out, "     {:<11}  {before}", "before")?;
    writeln!(out, "     {:<11}  {style}{after}{style:#}", "after")?;
    writeln!(out, "     {:<11}  {DIM}{}{DIM:#}", "for example", flow(c.witness))
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
