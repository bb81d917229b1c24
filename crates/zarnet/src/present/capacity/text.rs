//! The answer of `capacity` as text.

use super::holders::{holders, refused};
use std::io::{self, Write};
use std::time::Duration;

use zarnet_analysis::answer::capacity::CapacityAnswer;
use zarnet_analysis::answer::diff;
use zarnet_analysis::capacity::Trial;
use zarnet_analysis::capacity::{Resource, listed};

use super::chart::{self, terminal};
use super::numbers::rounded;
use super::outlook::outlook;
use crate::args::Capacity;
use crate::present::change;
use crate::present::table::{self, BAD, BOLD, CAUTION, Cell, Column, DIM, GOOD, count, span};

/// Writes the answer for people.
pub fn text(
    answer: CapacityAnswer<'_>,
    args: &Capacity,
    out: &mut dyn Write,
    width: usize,
    verbose: bool,
) -> io::Result<()> {
    overview(answer, out, width, verbose)?;
    let focus = answer.analysis.focus();
    for &i in &focus {
        writeln!(out)?;
        closely(answer, args, out, i, width, verbose)?;
        remedies(answer, out, i, width)?;
    }
    footer(answer, out, &focus)
}

fn overview(
    answer: CapacityAnswer<'_>,
    out: &mut dyn Write,
    width: usize,
    verbose: bool,
) -> io::Result<()> {
    let analysis = answer.analysis;
    if analysis.observed {
        writeln!(out, "{BOLD}In use{BOLD:#} by the table")?;
    } else {
        writeln!(out, "{BOLD}In use{BOLD:#} from {} to {}", analysis.from, analysis.until)?;
    }
    let several = answer.loaded.plan.devices.len() > 1;
    let columns = [
        Column::text(if several { "DEVICE" } else { "" }).expendable(if several { 2 } else { 9 }),
        Column::text("SUPPLY"),
        Column::number("USABLE"),
        Column::number(if analysis.observed { "IN USE" } else { "MOST" }),
        Column::number("OF IT"),
        Column::text("AT").expendable(3),
        Column::number("ALL IN USE FOR").expendable(4),
        Column::text("FIRST REFUSAL").expendable(1),
        Column::number("REFUSED").expendable(1),
        Column::number("HOSTS").expendable(1),
    ];
    let shown = |r: &&Resource| {
        verbose || r.series.usable.is_some() && (r.series.peak.count > 0 || r.refused_flows > 0)
    };
    let rows: Vec<Vec<Cell>> =
        analysis.resources.iter().filter(shown).map(|r| overview_row(answer, r, several)).collect();
    if rows.is_empty() {
        writeln!(out, "nothing that can run out was used")?;
    } else {
        table::write(out, &columns, &rows, width)?;
    }
    prefixes(answer, out)
}

fn overview_row(answer: CapacityAnswer<'_>, r: &Resource, several: bool) -> Vec<Cell> {
    let s = &r.series;
    let share = s.usable.filter(|u| *u > 0).map(|u| s.peak.count as f64 / u as f64);
    let style = match share {
        _ if r.refused_flows > 0 => BAD,
        Some(share) if share >= 0.8 => CAUTION,
        _ => anstyle::Style::new(),
    };
    let full = Duration::from_nanos(s.full_for(answer.analysis.until));
    let timed = |text: String| if answer.analysis.observed { String::new() } else { text };
    let refused = |n: u64| if r.refused_flows > 0 { n.to_string() } else { String::new() };
    vec![
        if several { answer.naming().device(r.device).into() } else { "".into() },
        Cell::styled(answer.title(r), style),
        s.usable.map(|u| u.to_string()).unwrap_or_default().into(),
        s.peak.count.to_string().into(),
        share.map(|s| format!("{:.0} %", s * 100.0)).unwrap_or_default().into(),
        timed(rounded(s.peak.at)).into(),
        if full.is_zero() { "".into() } else { timed(span(full)).into() },
        Cell::styled(s.first_refusal.map(rounded).unwrap_or_default(), BAD),
        refused(r.refused_flows).into(),
        refused(r.refused.len() as u64).into(),
    ]
}

/// Pools that can hand out less than they list.
fn prefixes(answer: CapacityAnswer<'_>, out: &mut dyn Write) -> io::Result<()> {
    for r in &answer.analysis.resources {
        let Some(pool) = answer.pool_of(r) else { continue };
        let (lists, lost) = (listed(pool), pool.lost_to_prefixes().collect::<Vec<_>>());
        let usable = r.series.usable.unwrap_or(0);
        if u128::from(usable) == lists {
            continue;
        }
        let mut why = Vec::new();
        if !lost.is_empty() {
            let list: Vec<String> = lost.iter().take(4).map(ToString::to_string).collect();
            let more = if lost.len() > 4 { ", ..." } else { "" };
            why.push(format!(
                "{}{more} are network and broadcast addresses (`usable = \"all\"` hands them \
                 out)",
                list.join(", ")
            ));
        }
        let others = lists.saturating_sub(u128::from(usable) + lost.len() as u128);
        if others > 0 {
            why.push(count(
                u64::try_from(others).unwrap_or(u64::MAX),
                "belongs to something else",
                "belong to something else",
            ));
        }
        writeln!(
            out,
            "{DIM}pool {} lists {lists} and can hand out {usable}: {}{DIM:#}",
            pool.name,
            why.join("; ")
        )?;
    }
    Ok(())
}

/// One resource: use over time, who has it, who was refused, what is to be expected.
fn closely(
    answer: CapacityAnswer<'_>,
    args: &Capacity,
    out: &mut dyn Write,
    i: usize,
    width: usize,
    verbose: bool,
) -> io::Result<()> {
    let r = &answer.analysis.resources[i];
    writeln!(out, "{BOLD}{}{BOLD:#} at {}", answer.title(r), answer.naming().device(r.device))?;
    if !answer.analysis.observed {
        let curve = chart::Curve::of(r, (answer.analysis.from, answer.analysis.until));
        terminal::over_time(out, &curve, width, args.ascii)?;
        let strips = chart::strips(answer.analysis, r);
        if strips.len() > 1 {
            terminal::heat(out, &strips, width, args.ascii)?;
        }
    }
    holders(answer, args, out, r, width)?;
    refused(answer, args, out, r, width)?;
    match answer.analysis.outlooks.get(i).and_then(Option::as_ref) {
        Some(o) => outlook(args, out, r, o, (width, verbose)),
        None if answer.analysis.observed || r.series.usable.is_none() => Ok(()),
        None if r.series.usable == Some(0) => {
            writeln!(out, "\n{BAD}There is nothing to hand out{BAD:#}: `zarnet check` shows why.")
        }
        None => {
            writeln!(out, "\n{DIM}Too little was asked for to make a forecast from.{DIM:#}")
        }
    }
}

fn remedies(
    answer: CapacityAnswer<'_>,
    out: &mut dyn Write,
    i: usize,
    width: usize,
) -> io::Result<()> {
    let own: Vec<&Trial> = answer.analysis.trials.iter().filter(|t| t.of == i).collect();
    if own.is_empty() {
        return Ok(());
    }
    let r = &answer.analysis.resources[i];
    writeln!(out, "\n{BOLD}Remedies{BOLD:#} for {}, tried on the same traffic", answer.title(r))?;
    let columns = [
        Column::text("REMEDY"),
        Column::number("REFUSED"),
        Column::number("HOSTS"),
        Column::number("MOST").expendable(1),
        Column::text("WHAT IT DOES"),
    ];
    let before = vec![
        Cell::from("as it is"),
        r.refused_flows.to_string().into(),
        r.refused.len().to_string().into(),
        of(Some((r.series.peak.count, r.series.usable))).into(),
        "".into(),
    ];
    let row = |t: &&Trial| -> Vec<Cell> {
        let (refused, hosts, peak) = match &t.outcome {
            Some(o) => {
                let style = if o.refused == 0 {
                    GOOD
                } else if o.refused < r.refused_flows {
                    CAUTION
                } else {
                    BAD
                };
                (Cell::styled(o.refused.to_string(), style), o.hosts.to_string(), of(o.peak))
            }
            None => ("-".into(), String::new(), String::new()),
        };
        let what = match &t.obstacle {
            Some(obstacle) => format!("{}: not possible, {obstacle}", t.title),
            None => t.title.clone(),
        };
        vec![t.kind.name().into(), refused, hosts.into(), peak.into(), what.into()]
    };
    let rows: Vec<Vec<Cell>> = std::iter::once(before).chain(own.iter().map(row)).collect();
    table::write(out, &columns, &rows, width)?;
    writeln!(out, "{BOLD}What each costs{BOLD:#}")?;
    let longest = own.iter().map(|t| t.kind.name().len()).max().unwrap_or(0);
    for t in own.iter().filter(|t| t.obstacle.is_none()) {
        writeln!(out, "  {:longest$}  {DIM}{}{DIM:#}", t.kind.name(), t.kind.sentence())?;
    }
    let Some((best, changed)) =
        answer.analysis.best(i).and_then(|b| Some((b, b.changed.as_ref()?)))
    else {
        return Ok(());
    };
    let why = if answer.analysis.shown.is_some() {
        "as asked for"
    } else {
        "refuses fewest, and is the first of equals"
    };
    writeln!(out, "\n{BOLD}{}{BOLD:#} ({why}): {}", best.kind.name(), best.title)?;
    change::write(out, "", &diff(&answer.loaded.sources, &changed.sources))
}

fn footer(answer: CapacityAnswer<'_>, out: &mut dyn Write, focus: &[usize]) -> io::Result<()> {
    let analysis = answer.analysis;
    writeln!(out)?;
    if analysis.elsewhere > 0 {
        let flows = count(analysis.elsewhere as u64, "flow was", "flows were");
        writeln!(
            out,
            "{flows} refused by a limit of a host or rule, with supply left: `zarnet predict` \
             lists them"
        )?;
    }
    let refused: u64 = analysis.resources.iter().map(|r| r.refused_flows).sum();
    if analysis.observed {
        writeln!(
            out,
            "{DIM}next: give traffic instead of --observed to see when it runs out{DIM:#}"
        )
    } else if refused == 0 {
        writeln!(
            out,
            "{GOOD}no flow was refused{GOOD:#} {DIM}next: --target, --growth, --supply NAME; \
             --chart FILE.png draws it{DIM:#}"
        )
    } else if analysis.trials.iter().any(|t| t.changed.is_some()) {
        let name = focus.iter().find_map(|i| analysis.best(*i)).map_or("NAME", |t| t.kind.name());
        writeln!(
            out,
            "{DIM}next: --apply {name} writes it into the plan; --remedy shows another; \
             --chart FILE.png draws it{DIM:#}"
        )
    } else {
        writeln!(
            out,
            "{DIM}next: without --brief, remedies are tried; --chart FILE.png draws it{DIM:#}"
        )
    }
}

fn of(peak: Option<(u64, Option<u64>)>) -> String {
    match peak {
        Some((peak, Some(usable))) => format!("{peak} of {usable}"),
        Some((peak, None)) => peak.to_string(),
        None => String::new(),
    }
}
