//! What else is asked of a supply: for how long it was nearly used up, when an alert is due, what
//! blocks leave unused, how many ports hosts have, how use grows.

use std::io::{self, Write};

use zarnet_analysis::answer::capacity::CapacityAnswer;
use zarnet_analysis::capacity::Resource;
use zarnet_core::device::Supply;
use zarnet_formats::traffic::{date_of, days_of};

use super::numbers::number;
use super::outlook::months;
use crate::args::Capacity;
use crate::present::table::{BOLD, CAUTION, DIM, count, span};

/// For how long it was nearly used up, and from where on an alert leaves time.
pub(super) fn over(
    answer: CapacityAnswer<'_>,
    out: &mut dyn Write,
    r: &Resource,
) -> io::Result<()> {
    if answer.analysis.observed || r.series.usable.is_none() {
        return Ok(());
    }
    let above = answer.time_above(r);
    let told: Vec<String> = above
        .iter()
        .filter(|(_, time)| !time.is_zero())
        .map(|(share, time)| format!("{:.0} % for {}", share * 100.0, span(*time)))
        .collect();
    if !told.is_empty() {
        let rest = if r.series.with_rest.is_some() { "in use or resting" } else { "in use" };
        writeln!(out, "At least {} {rest}.", told.join(", "))?;
    }
    let Some(within) = answer.alert else { return Ok(()) };
    let (unit, within) = (answer.unit(r), span(within));
    match answer.alert(r) {
        Some(level) => writeln!(
            out,
            "{BOLD}Alert{BOLD:#} from {level} {unit} in use on: at the fastest that use rose in this \
             traffic, {within} are left."
        ),
        None => writeln!(
            out,
            "{CAUTION}No alert leaves {within}{CAUTION:#}: use rose by all there is in less."
        ),
    }
}

/// What blocks of ports come to.
pub(super) fn blocks(answer: CapacityAnswer<'_>, out: &mut dyn Write, i: usize) -> io::Result<()> {
    let Some(b) = answer.analysis.blocks.get(i).copied().flatten() else { return Ok(()) };
    let addresses = count(b.addresses, "address", "addresses");
    let unused = match answer.analysis.observed {
        true => String::new(),
        false => format!("; {} of their ports lay unused when the most were taken", b.unused),
    };
    writeln!(
        out,
        "Blocks of {} ports, {} on each of {addresses}: {} share them, {} to an address, with {} \
         each{unused}.",
        b.size,
        b.on_address,
        count(b.hosts, "host", "hosts"),
        number(b.sharing),
        count_of(b.each),
    )
}

fn count_of(each: f64) -> String {
    if each == 1.0 { "one".to_owned() } else { number(each) }
}

/// How many ports hosts have: what a limit for each follows from.
pub(super) fn ports_of_hosts(
    answer: CapacityAnswer<'_>,
    out: &mut dyn Write,
    r: &Resource,
) -> io::Result<()> {
    let is_ports = matches!(
        r.supply,
        Supply::Ports(..) | Supply::PortsOfAll(..) | Supply::Blocks(..) | Supply::BlocksOfAll(..)
    );
    let of = answer.analysis.ports_of_hosts.iter().find(|p| p.0 == r.device && is_ports);
    let Some((_, p)) = of else { return Ok(()) };
    writeln!(
        out,
        "{DIM}Mappings of a host at most at a time: half of {} hosts up to {}, 95 % up to {}, 99 % up to \
         {}, the most {} (what `ports-per-host` follows from){DIM:#}",
        p.count, p.p50, p.p95, p.p99, p.most
    )
}

/// Rows of a table that are not counted.
pub(super) fn rows_apart(answer: CapacityAnswer<'_>, out: &mut dyn Write) -> io::Result<()> {
    let [unexplained, outside, repeated] = answer.analysis.rows_apart;
    let parts = [
        (unexplained, "of no enabled rule of the plan"),
        (outside, "on ports that are not handed out"),
        (repeated, "that say again what another one says"),
    ];
    for (rows, what) in parts.into_iter().filter(|p| p.0 > 0) {
        let rows = count(rows, "row", "rows");
        writeln!(out, "{CAUTION}not counted{CAUTION:#} {rows} {what}")?;
    }
    Ok(())
}

/// When all is in use, at the growth of several tables or the one given.
pub(super) fn grown(
    answer: CapacityAnswer<'_>,
    args: &Capacity,
    out: &mut dyn Write,
    i: usize,
) -> io::Result<()> {
    let Some((rate, full)) = answer.growth(i) else { return Ok(()) };
    let last = args.taken.last().and_then(|t| days_of(t));
    let at = |m: Option<f64>| {
        let date = |m: f64| last.and_then(|l| date_of(l + m * 30.44));
        m.map_or("never".to_owned(), |m| date(m).unwrap_or_else(|| format!("in {}", months(m))))
    };
    let [soonest, likely, latest] = full.map(at);
    let percent = rate.a_month * 100.0;
    match rate.found_from {
        tables if full[1].is_none() => writeln!(
            out,
            "Use does not grow{}: {percent:.1} % a month{}",
            if tables > 0 { format!(" by the {tables} tables") } else { String::new() },
            if full[0].is_some() {
                format!("; all in use {soonest} at the earliest")
            } else {
                String::new()
            },
        ),
        0 => writeln!(out, "{BOLD}All in use{BOLD:#} {likely}, at {percent:.1} % a month"),
        tables => writeln!(
            out,
            "{BOLD}All in use{BOLD:#} {likely} (between {soonest} and {latest}), at the growth of the \
             {tables} tables, {percent:.1} % a month"
        ),
    }
}
