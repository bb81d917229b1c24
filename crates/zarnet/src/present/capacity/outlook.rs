//! What the demand on a supply will be, for people.

use super::chart::{self, terminal};
use super::numbers::{number, rounded, share};
use crate::args::Capacity;
use crate::present::table::{self, BAD, BOLD, CAUTION, Cell, Column, DIM, GOOD, span};
use std::io::{self, Write};
use std::time::Duration;
use zarnet_analysis::capacity::Outlook;
use zarnet_analysis::capacity::{Assumption, MOST_UNITS, Resource};
use zarnet_core::net::Instant;

fn months(months: f64) -> String {
    if months < 24.0 {
        format!("{months:.1} months")
    } else {
        format!("{:.1} years", months / 12.0)
    }
}

pub(super) fn outlook(
    args: &Capacity,
    out: &mut dyn Write,
    r: &Resource,
    o: &Outlook,
    (width, verbose): (usize, bool),
) -> io::Result<()> {
    let (d, usable) = (&o.demand, r.series.usable.unwrap_or(0));
    writeln!(
        out,
        "\n{BOLD}If the load grows{BOLD:#}: in the busiest hour, {} to {}, {} requests a \
         second that hold {} each: {} erlang",
        rounded(d.from),
        rounded(d.until),
        number(d.rate),
        span(Duration::from_secs_f64(d.holds.clamp(0.0, 1e12))),
        number(d.offered),
    )?;
    let simulated = !o.simulated.is_empty();
    let columns = [
        Column::number("LOAD"),
        Column::number("ERLANG"),
        Column::number("REFUSED"),
        Column::number("ONE EVERY").expendable(1),
        Column::text("SIMULATED").expendable(2),
        Column::text("RAN OUT").expendable(3),
        Column::text("FIRST AT").expendable(4),
    ];
    let row = |f: &zarnet_analysis::capacity::Forecast| -> Vec<Cell> {
        let s = o.simulated.iter().find(|s| s.growth == f.growth);
        let style = if f.refusal > args.target { BAD } else { GOOD };
        let every = if f.every.is_finite() && f.every < 1e9 {
            span(Duration::from_secs_f64(f.every))
        } else {
            String::new()
        };
        vec![
            format!("x {}", f.growth).into(),
            number(f.offered).into(),
            Cell::styled(share(f.refusal), style),
            every.into(),
            s.map(|s| {
                format!(
                    "{} ({} to {})",
                    share(s.refused.mean),
                    share(s.refused.low.max(0.0)),
                    share(s.refused.high.min(1.0))
                )
            })
            .unwrap_or_default()
            .into(),
            s.map(|s| format!("{} of {}", s.ran_out, s.refused.runs)).unwrap_or_default().into(),
            s.and_then(|s| s.first)
                .map(|f| rounded(Instant((f * 1e9) as u64)))
                .unwrap_or_default()
                .into(),
        ]
    };
    let rows: Vec<Vec<Cell>> = o.forecasts.iter().map(row).collect();
    table::write(out, &columns, &rows, width)?;
    let what = if simulated {
        "SIMULATED is the traffic's own load profiles, drawn anew: mean and 95 % interval in \
         that hour"
    } else if args.brief {
        "It is not compared with a simulation, as --brief asks"
    } else {
        "It is not compared with a simulation: the traffic has no load profile to draw from"
    };
    let rests = "REFUSED is Erlang's formula: independent requests, many hosts, no retries";
    writeln!(out, "{DIM}{rests}.\n{what}.{DIM:#}")?;
    for c in &d.contradicted {
        writeln!(out, "{CAUTION}{}{CAUTION:#} {}", c.name(), c.sentence())?;
    }
    let target = share(args.target);
    match o.needed {
        _ if d.contradicted.contains(&Assumption::NeverInUse) => {}
        None => writeln!(out, "No size up to {} meets {target}.", MOST_UNITS)?,
        Some(needed) if needed <= usable => {
            let room =
                o.headroom.map(|h| format!("; the load may grow to x {h:.2}")).unwrap_or_default();
            let when = o
                .months
                .map(|m| format!(", in {} at the growth given", months(m)))
                .unwrap_or_default();
            writeln!(
                out,
                "{GOOD}Enough{GOOD:#}: {needed} of {usable} refuse {target} or \
                 less{room}{when}."
            )?;
        }
        Some(needed) => {
            writeln!(
                out,
                "{BAD}Too few{BAD:#}: {needed} would refuse {target} or less; there are \
                 {usable}."
            )?;
        }
    }
    if verbose || o.needed.is_none_or(|n| n > usable) {
        let sizes = chart::BySize::of(d, usable, o.needed, args.target);
        terminal::by_size(out, &sizes, width, args.ascii)?;
    }
    Ok(())
}
