//! The answer of `capacity` as text.

use super::holders::{holders, refused};
use std::io::{self, Write};
use std::time::Duration;

use zarnet_analysis::answer::capacity::CapacityAnswer;
use zarnet_analysis::answer::diff;
use zarnet_analysis::capacity::{Assumption, Trial};
use zarnet_analysis::capacity::{Resource, listed};

use super::chart::{self, terminal};
use super::more::{blocks, grown, over, ports_of_hosts, rows_apart};
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
        rows_apart(answer, out)?;
    } else {
        writeln!(out, "{BOLD}In use{BOLD:#} from {} to {}", analysis.from, analysis.until)?;
    }
    let several = answer.plan().devices.len() > 1;
    let columns = [
        Column::text(if several { "DEVICE" } else { "" }).expendable(if several { 2 } else { 9 }),
        Column::text("SUPPLY"),
        Column::number("USABLE"),
        Column::number(if analysis.observed { "IN USE" } else { "MOST" }),
        Column::number("WITH REST").expendable(5),
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
    let rest = s.with_rest.as_ref().map(|rest| rest.peak.count);
    let most = rest.unwrap_or(s.peak.count).max(s.peak.count);
    let share = s.usable.filter(|u| *u > 0).map(|u| most as f64 / u as f64);
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
        rest.map(|n| n.to_string()).unwrap_or_default().into(),
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
        // an address of several is one of those strips itself
        let strips = match answer.analysis.part_of.get(i).copied().flatten() {
            Some(_) => Vec::new(),
            None => chart::strips(answer.analysis, r),
        };
        if strips.len() > 1 {
            terminal::heat(out, &strips, width, args.ascii)?;
        }
    }
    over(answer, out, r)?;
    blocks(answer, out, i)?;
    holders(answer, args, out, r, width)?;
    ports_of_hosts(answer, out, r)?;
    refused(answer, args, out, r, width)?;
    if answer.analysis.observed {
        return grown(answer, args, out, i);
    }
    match answer.analysis.outlooks.get(i).and_then(Option::as_ref) {
        Some(o) => outlook(answer, args, out, i, o, (width, verbose)),
        None if r.series.usable.is_none() => Ok(()),
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
    let analysis = answer.analysis;
    let own: Vec<&Trial> = analysis.trials.iter().filter(|t| t.of == i).collect();
    if let Some((_, first)) = analysis.alike.iter().find(|a| a.0 == i) {
        let first = answer.title(&analysis.resources[*first]);
        writeln!(out, "\n{DIM}Other remedies are those of {first}, tried there.{DIM:#}")?;
    }
    if own.is_empty() {
        return Ok(());
    }
    let r = &analysis.resources[i];
    writeln!(
        out,
        "\n{BOLD}Remedies{BOLD:#} for {}, tried on the same traffic; counted are flows of the whole \
         plan for which nothing was left",
        answer.title(r)
    )?;
    let columns = [
        Column::text("REMEDY"),
        Column::number("REFUSED"),
        Column::number("HOSTS").expendable(2),
        Column::number("SERVED").expendable(3),
        Column::number("LOST"),
        Column::number("ADDRESSES").expendable(1),
        Column::number("MOST"),
        Column::text("WHAT IT DOES"),
    ];
    let base = &analysis.as_it_is;
    let before = vec![
        Cell::from("as it is"),
        base.refused.to_string().into(),
        base.hosts.to_string().into(),
        "".into(),
        "".into(),
        "".into(),
        of(Some((r.series.peak.count, r.series.usable))).into(),
        "nothing is changed".into(),
    ];
    let row = |t: &&Trial| -> Vec<Cell> {
        let what = match &t.obstacle {
            Some(obstacle) => format!("{}: not possible, {obstacle}", t.title),
            None => t.title.clone(),
        };
        let Some(o) = &t.outcome else {
            let mut cells = vec![Cell::from(t.name.as_str()), "-".into()];
            cells.resize(7, Cell::default());
            cells.push(what.into());
            return cells;
        };
        let style = match o.refused {
            0 => GOOD,
            n if n < base.refused => CAUTION,
            _ => BAD,
        };
        let some = |n: u64| if n > 0 { n.to_string() } else { String::new() };
        vec![
            t.name.as_str().into(),
            Cell::styled(o.refused.to_string(), style),
            o.hosts.to_string().into(),
            some(o.served).into(),
            Cell::styled(some(o.lost), BAD),
            some(t.addresses).into(),
            of(o.peak).into(),
            what.into(),
        ]
    };
    let rows: Vec<Vec<Cell>> = std::iter::once(before).chain(own.iter().map(row)).collect();
    table::write(out, &columns, &rows, width)?;
    let outlook = analysis.outlooks.get(i).and_then(Option::as_ref);
    if outlook.is_some_and(|o| o.demand.contradicted.contains(&Assumption::Retries)) {
        writeln!(
            out,
            "{DIM}Tries that follow on a refusal are in this traffic, and are played with each remedy \
             too.{DIM:#}"
        )?;
    }
    writeln!(out, "{BOLD}What each costs{BOLD:#}")?;
    let single = |t: &&&Trial| t.obstacle.is_none() && t.kinds.len() == 1;
    let longest = own.iter().filter(single).map(|t| t.kinds[0].name().len()).max().unwrap_or(0);
    let mut told = Vec::new();
    for kind in own.iter().filter(single).map(|t| t.kinds[0]) {
        if !told.contains(&kind) {
            told.push(kind);
            writeln!(out, "  {:longest$}  {DIM}{}{DIM:#}", kind.name(), kind.sentence())?;
        }
    }
    recommended(answer, out, i)
}

/// The remedy that is recommended, by what, and whom it takes something from.
fn recommended(answer: CapacityAnswer<'_>, out: &mut dyn Write, i: usize) -> io::Result<()> {
    let analysis = answer.analysis;
    let Some((best, changed)) = analysis.best(i).and_then(|b| Some((b, b.changed.as_ref()?)))
    else {
        return writeln!(
            out,
            "\n{BOLD}None is recommended{BOLD:#}: with each of them at least as many flows of the \
             whole plan are not translated as without"
        );
    };
    let why = match analysis.shown {
        Some(_) => "as asked for".to_owned(),
        None => {
            let now = best.outcome.as_ref().map_or(0, |o| o.untranslated);
            format!(
                "chosen because it leaves the fewest flows of the whole plan untranslated, {now} \
                 instead of {}; of equals, the one that takes and asks least",
                analysis.as_it_is.untranslated
            )
        }
    };
    writeln!(out, "\n{BOLD}{}{BOLD:#} ({why}): {}", best.name, best.title)?;
    let losers = best.outcome.as_ref().map(|o| o.losers.as_slice()).unwrap_or_default();
    if !losers.is_empty() {
        let name = |l: &zarnet_analysis::capacity::Loser| {
            format!("{} ({})", answer.naming().address(l.host), l.flows)
        };
        let named: Vec<String> = losers.iter().take(4).map(name).collect();
        let more = match losers.len().saturating_sub(4) {
            0 => String::new(),
            more => format!(" and {more} more"),
        };
        writeln!(out, "{CAUTION}takes flows from{CAUTION:#} {}{more}", named.join(", "))?;
    }
    change::write(out, "", &diff(&answer.loaded.sources, &changed.sources))
}

fn footer(answer: CapacityAnswer<'_>, out: &mut dyn Write, focus: &[usize]) -> io::Result<()> {
    let analysis = answer.analysis;
    writeln!(out)?;
    if analysis.replaced.is_some() {
        writeln!(
            out,
            "Another plan takes over in this traffic: nothing is simulated and no remedy tried; ask \
             with that plan"
        )?;
    }
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
        let is_grown = analysis.growth.iter().any(Option::is_some);
        let several = if is_grown { "" } else { "; several tables with --taken show how it grows" };
        writeln!(
            out,
            "{DIM}next: give traffic instead of --observed to see when it runs out{several}{DIM:#}"
        )
    } else if refused == 0 {
        writeln!(
            out,
            "{GOOD}no flow was refused{GOOD:#}{DIM}; next: --users N, --growth, --alert 15m, \
             --supply NAME; --chart FILE.png draws it{DIM:#}"
        )
    } else if analysis.trials.iter().any(|t| t.changed.is_some()) {
        let name = focus.iter().find_map(|i| analysis.best(*i)).map_or("NAME", |t| t.name.as_str());
        writeln!(
            out,
            "{DIM}next: --apply {name} writes it into the plan; --remedy shows another; \
             --chart FILE.png draws it{DIM:#}"
        )
    } else if analysis.replaced.is_some() {
        writeln!(out, "{DIM}next: --supply NAME; --chart FILE.png draws it{DIM:#}")
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
