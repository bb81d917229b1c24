//! What the demand on a supply will be, for people.

use super::chart::{self, terminal};
use super::numbers::{number, rounded, share};
use crate::args::Capacity;
use crate::present::table::{self, BAD, BOLD, CAUTION, Cell, Column, DIM, GOOD, count, span};
use std::io::{self, Write};
use std::time::Duration;
use zarnet_analysis::answer::capacity::CapacityAnswer;
use zarnet_analysis::capacity::{
    Forecast, MOST_UNITS, Measured, Outlook, Resource, Simulated, Verdict,
};
use zarnet_core::net::Instant;

/// A time of some months.
pub(super) fn months(months: f64) -> String {
    if months < 24.0 {
        format!("{months:.1} months")
    } else {
        format!("{:.1} years", months / 12.0)
    }
}

pub(super) fn outlook(
    answer: CapacityAnswer<'_>,
    args: &Capacity,
    out: &mut dyn Write,
    i: usize,
    o: &Outlook,
    (width, verbose): (usize, bool),
) -> io::Result<()> {
    let r = &answer.analysis.resources[i];
    let d = &o.demand;
    writeln!(
        out,
        "\n{BOLD}If the load grows{BOLD:#}: in the busiest hour, {} to {}, {} requests a \
         second that hold {} each: {} erlang",
        rounded(d.from),
        rounded(d.until),
        number(d.rate),
        span(Duration::from_secs_f64(d.holds.clamp(0.0, 1e12))),
        number(o.model.offered(1.0)),
    )?;
    measured(out, d.measured)?;
    loads(args, out, o, width)?;
    for c in &d.contradicted {
        writeln!(out, "{CAUTION}{}{CAUTION:#} {}", c.name(), c.sentence())?;
    }
    if let Some(i) = o.imbalance.filter(|i| i.factor > 1.2 || i.stuck > 0) {
        let stuck = match i.stuck {
            0 => String::new(),
            n => format!(
                "; {} refused while others had something left",
                count(n, "host was", "hosts were")
            ),
        };
        writeln!(
            out,
            "The fullest address is asked for {:.1} times the mean; {} refused {}{stuck}.",
            i.factor,
            i.worst,
            share(i.refused)
        )?;
    }
    conclusion(answer, args, out, i, o)?;
    users(args, out, r, o)?;
    if o.tells_sizes() && (verbose || o.verdict == Verdict::TooFew) {
        let usable = r.series.usable.unwrap_or(0);
        let sizes = chart::BySize::of(o, usable, args.target);
        terminal::by_size(out, &sizes, width, args.ascii)?;
    }
    Ok(())
}

/// What the record shows of the hour.
fn measured(out: &mut dyn Write, m: Measured) -> io::Result<()> {
    let requests = count(m.requests, "request", "requests");
    match m.refused {
        0 => writeln!(
            out,
            "{BOLD}Measured there{BOLD:#}: none of {requests} refused, which bears out no more \
             than {}",
            share(m.high)
        ),
        n => writeln!(
            out,
            "{BOLD}Measured there{BOLD:#}: {n} of {requests} refused, {} ({} to {})",
            share(m.share),
            share(m.low),
            share(m.high)
        ),
    }
}

/// A table of loads: what is computed, and what is simulated.
fn loads(args: &Capacity, out: &mut dyn Write, o: &Outlook, width: usize) -> io::Result<()> {
    let columns = [
        Column::number("LOAD"),
        Column::number("ERLANG"),
        Column::number("COMPUTED"),
        Column::number("ONE EVERY").expendable(1),
        Column::text("SIMULATED").expendable(2),
        Column::text("RAN OUT").expendable(3),
        Column::text("FIRST AT").expendable(4),
    ];
    let row = |f: &Forecast| -> Vec<Cell> {
        let s = o.simulated.iter().find(|s| s.growth == f.growth);
        let style = if f.refusal > args.target { BAD } else { GOOD };
        let every = if f.every.is_finite() && f.every < 1e9 {
            span(Duration::from_secs_f64(f.every))
        } else {
            String::new()
        };
        let first = s.and_then(|s| s.first).map(|f| rounded(Instant((f * 1e9) as u64)));
        vec![
            format!("x {}", f.growth).into(),
            number(f.offered).into(),
            Cell::styled(share(f.refusal), style),
            every.into(),
            s.map(simulated).unwrap_or_default().into(),
            s.map(|s| format!("{} of {}", s.ran_out, s.refused.runs)).unwrap_or_default().into(),
            first.unwrap_or_default().into(),
        ]
    };
    let rows: Vec<Vec<Cell>> = o.forecasts.iter().map(row).collect();
    table::write(out, &columns, &rows, width)?;
    let what = if !o.simulated.is_empty() {
        "SIMULATED is the traffic drawn anew and played: mean and 95 % interval in that hour"
    } else if args.brief {
        "It is not compared with a simulation, as --brief asks"
    } else if args.runs == Some(0) {
        "It is not compared with a simulation, as --runs 0 asks"
    } else {
        "It is not compared with a simulation: --runs N plays as many as are wanted"
    };
    writeln!(out, "{DIM}COMPUTED is {}\n{what}.{DIM:#}", o.model.formula().sentence())
}

/// The share that simulations show; of none in all runs, what that bears out.
fn simulated(s: &Simulated) -> String {
    if s.refused.mean <= 0.0 {
        return format!("none (up to {})", share((3.0 / s.requests.max(1) as f64).min(1.0)));
    }
    format!(
        "{} ({} to {})",
        share(s.refused.mean),
        share(s.refused.low.max(0.0)),
        share(s.refused.high.min(1.0))
    )
}

fn conclusion(
    answer: CapacityAnswer<'_>,
    args: &Capacity,
    out: &mut dyn Write,
    i: usize,
    o: &Outlook,
) -> io::Result<()> {
    let usable = answer.analysis.resources[i].series.usable.unwrap_or(0);
    let target = share(args.target);
    match (o.verdict, o.needed) {
        (Verdict::Enough, needed) => {
            let needed = needed.map_or(usable, |n| n.min(usable));
            let room = match o.headroom {
                Some(h) => format!("; the load may grow to x {h:.2}"),
                None => "; no growth is too much".to_owned(),
            };
            let users = o.users.map(|u| format!(", from {} hosts to {u}", o.demand.hosts));
            writeln!(
                out,
                "{GOOD}Enough{GOOD:#}: {needed} of {usable} refuse {target} or less, and the \
                 record bears it out{room}{}{}.",
                users.unwrap_or_default(),
                when(answer, i)
            )
        }
        (Verdict::TooFew, _) if !o.agrees => writeln!(
            out,
            "{BAD}Too few{BAD:#}: {} was refused. How many would do the formula does not tell, for it \
             computes {}{}: go by what was simulated and tried.",
            share(o.demand.measured.share.max(o.overall)),
            share(o.model.refusal(usable, 1.0)),
            because(o)
        ),
        (Verdict::TooFew, Some(needed)) if needed > usable => writeln!(
            out,
            "{BAD}Too few{BAD:#}: {needed} would refuse {target} or less; there are {usable}."
        ),
        (Verdict::TooFew, Some(_)) => writeln!(
            out,
            "{BAD}Too few{BAD:#}: more than {target} is refused as hosts are dealt out to the \
             {usable} that there are; dealt out by chance they would do."
        ),
        (Verdict::TooFew, None) => writeln!(
            out,
            "{BAD}Too few{BAD:#}: no size up to {MOST_UNITS} meets {target}{}.",
            match o.imbalance {
                Some(_) => ", for one host alone asks for more than its address has",
                None => "",
            }
        ),
        (Verdict::Contradicted, _) => {
            let computed = share(o.model.refusal(usable, 1.0));
            writeln!(
                out,
                "{CAUTION}The record contradicts the formula{CAUTION:#}: computed {computed}, \
                 measured {} ({} in all of the record){}. Nothing is recommended by it: go by \
                 what was measured, simulated and tried.",
                share(o.demand.measured.share),
                share(o.overall),
                because(o)
            )
        }
        (Verdict::Unknown, _) => {
            let lasts = span(o.demand.until - answer.analysis.from);
            let holds = span(Duration::from_secs_f64(o.demand.holds.clamp(0.0, 1e12)));
            writeln!(
                out,
                "{CAUTION}The record is too short to tell{CAUTION:#}: the busiest hour ends \
                 {lasts} after its beginning, and each use holds {holds}."
            )
        }
    }
}

/// What may be the reason that formula and record differ.
fn because(o: &Outlook) -> String {
    let why: Vec<&str> = o.demand.contradicted.iter().map(|c| c.name()).collect();
    match why.as_slice() {
        [] => ", and the record does not show why".to_owned(),
        why => format!(", which may be for {}", why.join(", ")),
    }
}

/// When there is too little at the growth that is given or was found.
fn when(answer: CapacityAnswer<'_>, i: usize) -> String {
    let Some((rate, [soonest, likely, latest])) = answer.growth(i) else { return String::new() };
    let percent = |rate: f64| format!("{:.1} % a month", rate * 100.0);
    match (rate.found_from, likely) {
        (0, Some(likely)) => format!(", in {} at the growth given", months(likely)),
        (0, None) => String::new(),
        (days, likely) => {
            let bound = |m: Option<f64>| m.map_or("never".to_owned(), months);
            format!(
                ", in {} (between {} and {}) at the growth of the {days} days, {}",
                bound(likely),
                bound(soonest),
                bound(latest),
                percent(rate.a_month)
            )
        }
    }
}

/// What so many users need.
fn users(args: &Capacity, out: &mut dyn Write, r: &Resource, o: &Outlook) -> io::Result<()> {
    let (Some(users), hosts) = (args.users, o.demand.hosts.max(1)) else { return Ok(()) };
    let usable = r.series.usable.unwrap_or(0);
    let growth = users as f64 / hosts as f64;
    let refusal = share(o.model.refusal(usable, growth));
    let users = count(users, "user", "users");
    let served = match (o.verdict, o.size_for(args.users.unwrap_or(0), args.target)) {
        (verdict, _)
            if !o.agrees || matches!(verdict, Verdict::Contradicted | Verdict::Unknown) =>
        {
            "what they need is not told, for the record does not bear the formula out".to_owned()
        }
        (_, Some(size)) => format!("{size} would refuse {} or less", share(args.target)),
        (_, None) => format!("no size up to {MOST_UNITS} refuses {} or less", share(args.target)),
    };
    writeln!(
        out,
        "{BOLD}For {users}{BOLD:#}, x {growth:.2} of the {hosts} hosts seen: {refusal} refused \
         with {usable}; {served}."
    )
}
