//! Who holds a supply, and who found nothing left of it.

use std::io::{self, Write};

use zarnet_analysis::answer::capacity::CapacityAnswer;
use zarnet_analysis::capacity::Resource;
use zarnet_core::device::Supply;

use super::chart::terminal;
use super::numbers::rounded;
use crate::args::Capacity;
use crate::present::table::{self, BAD, Cell, Column, DIM, count, span};

pub(super) fn holders(
    answer: CapacityAnswer<'_>,
    args: &Capacity,
    out: &mut dyn Write,
    r: &Resource,
    width: usize,
) -> io::Result<()> {
    let hosts = count(r.holders.len() as u64, "host", "hosts");
    let of = r.series.usable.map(|u| format!(" of {u}")).unwrap_or_default();
    let what = format!("{}{of} {}", r.in_use, answer.unit(r));
    if answer.analysis.observed {
        let left = r
            .series
            .usable
            .map(|u| format!("; {} left", u.saturating_sub(r.in_use)))
            .unwrap_or_default();
        writeln!(out, "{what} held by {hosts}{left}")?;
    } else {
        let moment = if r.series.first_refusal == Some(r.at) && args.at.is_none() {
            "when the first flow was refused"
        } else {
            "at that moment"
        };
        writeln!(out, "\nAt {}, {moment}: {what} held by {hosts}", rounded(r.at))?;
    }
    if r.holders.is_empty() {
        return Ok(());
    }
    let timed = !answer.analysis.observed;
    let columns = [
        Column::text("HOST"),
        Column::number("HELD"),
        Column::text(""),
        Column::text("EXTERNAL").expendable(3),
        Column::text("RULE").expendable(4),
        Column::text("SINCE").expendable(2),
        Column::number("IDLE FOR").expendable(1),
        Column::number("EXPIRES IN").expendable(1),
    ];
    // a table may say since when and until when
    let told =
        |h: &zarnet_analysis::capacity::Holder| timed || h.until > zarnet_core::net::Instant::ZERO;
    let shown = if args.rows == 0 { usize::MAX } else { args.rows };
    let most = r.holders.first().map_or(1, |h| h.held);
    let row = |h: &zarnet_analysis::capacity::Holder| -> Vec<Cell> {
        let bar =
            if most > 1 { terminal::bar(h.held, most, 16, args.ascii) } else { String::new() };
        vec![
            answer.naming().address(h.host).into(),
            h.held.to_string().into(),
            bar.into(),
            h.external.map(|a| a.to_string()).unwrap_or_default().into(),
            answer.rules(r.device, &h.rules).join(" ").into(),
            if told(h) { rounded(h.since).into() } else { "".into() },
            match h.last_active.filter(|_| timed) {
                Some(last) if last >= r.at => "active".into(),
                Some(last) => span(r.at - last).into(),
                // an address is kept for a while after its last session
                None if timed => "kept".into(),
                None => "".into(),
            },
            if told(h) { span(h.until - r.at).into() } else { "".into() },
        ]
    };
    let rows: Vec<Vec<Cell>> = r.holders.iter().take(shown).map(row).collect();
    table::write(out, &columns, &rows, width)?;
    if r.holders.len() > shown {
        let rest: u64 = r.holders[shown..].iter().map(|h| h.held).sum();
        let more = count((r.holders.len() - shown) as u64, "host more holds", "hosts more hold");
        writeln!(out, "{DIM}{more} {rest}; --rows 0 shows all{DIM:#}")?;
    }
    if let Some(release) = r.next_release {
        let rested = if r.series.with_rest.is_some() { ", rested" } else { "" };
        writeln!(
            out,
            "The next one is free{rested} at {}, {} later.",
            rounded(release),
            span(release - r.at)
        )?;
    }
    Ok(())
}

pub(super) fn refused(
    answer: CapacityAnswer<'_>,
    args: &Capacity,
    out: &mut dyn Write,
    r: &Resource,
    width: usize,
) -> io::Result<()> {
    if r.refused.is_empty() {
        return Ok(());
    }
    let (flows, hosts) =
        (count(r.refused_flows, "flow", "flows"), count(r.refused.len() as u64, "host", "hosts"));
    let wanted = match r.supply {
        Supply::Pool(_) => "an address each".to_owned(),
        Supply::Mappings | Supply::Sessions => "a place in the table".to_owned(),
        Supply::Blocks(..) | Supply::BlocksOfAll(..) => "blocks of ports".to_owned(),
        Supply::PortsOfAll(..) | Supply::Ports(..) => {
            format!("{}, each for another flow", if r.is_query() { "query ids" } else { "ports" })
        }
    };
    let last = r.series.last_refusal.map(rounded).unwrap_or_default();
    let first = r.series.first_refusal.map(rounded).unwrap_or_default();
    writeln!(
        out,
        "\n{BAD}Refused{BAD:#}: {flows} of {hosts} from {first} to {last}; they wanted {wanted}"
    )?;
    let columns = [
        Column::text("HOST"),
        Column::number("FLOWS"),
        Column::text("FIRST"),
        Column::text("LAST"),
        Column::text("REASON").expendable(1),
        Column::text("RULE").expendable(2),
    ];
    let shown = if args.rows == 0 { usize::MAX } else { args.rows };
    let mut list: Vec<_> = r.refused.iter().collect();
    list.sort_by_key(|f| (std::cmp::Reverse(f.flows), f.first));
    let row = |f: &&zarnet_analysis::capacity::Refused| -> Vec<Cell> {
        vec![
            answer.naming().address(f.host).into(),
            f.flows.to_string().into(),
            rounded(f.first).into(),
            rounded(f.last).into(),
            Cell::styled(f.reason.name(), BAD),
            f.rule.map(|rule| answer.naming().rule(r.device, rule)).unwrap_or_default().into(),
        ]
    };
    let rows: Vec<Vec<Cell>> = list.iter().take(shown).map(row).collect();
    table::write(out, &columns, &rows, width)?;
    if list.len() > shown {
        let more = count((list.len() - shown) as u64, "host more", "hosts more");
        writeln!(out, "{DIM}{more}; --rows 0 shows all{DIM:#}")?;
    }
    Ok(())
}
