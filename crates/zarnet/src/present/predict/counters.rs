//! Counters of rules, pools, devices and addresses.

use std::io::{self, Write};

use zarnet_analysis::answer::predict::PredictAnswer;
use zarnet_core::net::Instant;

use super::super::View;
use super::super::table::{self, BAD, BOLD, CAUTION, Cell, Column, DIM, count};

/// A table behind an empty line, if there is anything in it.
fn section(
    out: &mut dyn Write,
    columns: &[Column],
    rows: &[Vec<Cell>],
    view: View,
) -> io::Result<()> {
    if !rows.is_empty() {
        writeln!(out)?;
        table::write(out, columns, rows, view.width)?;
    }
    Ok(())
}

pub(super) fn counters(
    out: &mut dyn Write,
    answer: PredictAnswer<'_>,
    view: View,
) -> io::Result<()> {
    let counters = answer.counters();
    let number = |n: u64| Cell::from(n.to_string());
    let refused =
        |n: u64| if n > 0 { Cell::styled(n.to_string(), BAD) } else { n.to_string().into() };
    let several = answer.plan.devices.len() > 1;
    let device = |name: &str| if several { name.into() } else { Cell::default() };
    let moment = |most: u64, at: Instant| {
        if most > 0 { Cell::from(at.to_string()) } else { Cell::default() }
    };
    let shown = if view.rows == 0 || view.verbose { usize::MAX } else { view.rows };
    let columns = [
        Column::text("RULE"),
        Column::text("DEVICE").expendable(9),
        Column::number("OPENED"),
        Column::number("OPEN"),
        Column::number("MOST"),
        Column::number("AT").expendable(8),
        Column::number("EXPIRED"),
        Column::number("CLEARED").expendable(7),
        Column::number("REFUSED"),
    ];
    // rules that nothing happened to are told by -v
    let busy =
        |r: &&zarnet_analysis::answer::RuleCount<'_>| view.verbose || r.opened + r.refused > 0;
    let rules: Vec<_> = counters.rules.iter().filter(busy).collect();
    let row = |r: &&zarnet_analysis::answer::RuleCount<'_>| {
        vec![
            r.rule.into(),
            device(r.device),
            number(r.opened),
            number(r.open),
            number(r.most),
            moment(r.most, r.most_at),
            number(r.expired),
            if r.cleared > 0 { number(r.cleared) } else { Cell::default() },
            refused(r.refused),
        ]
    };
    let rows: Vec<Vec<Cell>> = rules.iter().take(shown).map(row).collect();
    if !rows.is_empty() {
        writeln!(
            out,
            "\n{BOLD}Counters{BOLD:#} {DIM}sessions of each rule over all the traffic; open at \
             the moment shown{DIM:#}"
        )?;
        table::write(out, &columns, &rows, view.width)?;
    }
    let quiet = counters.rules.len() - rows.len();
    if quiet > 0 && !rows.is_empty() {
        writeln!(
            out,
            "{DIM}{} not shown; -v shows all{DIM:#}",
            count(quiet as u64, "rule", "rules")
        )?;
    }
    let columns = [
        Column::text("POOL"),
        Column::text("DEVICE").expendable(9),
        Column::number("USABLE"),
        Column::number("IN USE"),
        Column::number("MOST"),
        Column::number("AT").expendable(8),
        Column::number("REFUSED"),
    ];
    let row = |p: &zarnet_analysis::answer::PoolCount<'_>| {
        let full = p.most == p.usable && p.usable > 0;
        let most = if full { Cell::styled(p.most.to_string(), CAUTION) } else { number(p.most) };
        vec![
            p.pool.into(),
            device(p.device),
            number(p.usable),
            number(p.in_use),
            most,
            moment(p.most, p.most_at),
            refused(p.refused),
        ]
    };
    let rows: Vec<Vec<Cell>> = counters.pools.iter().take(shown).map(row).collect();
    section(out, &columns, &rows, view)?;
    if view.verbose {
        writeln!(out)?;
        let columns = [
            Column::text("DEVICE"),
            Column::number("MAPPINGS"),
            Column::number("MOST"),
            Column::number("SESSIONS"),
            Column::number("MOST"),
            Column::number("REFUSED"),
        ];
        let row = |d: &zarnet_analysis::answer::DeviceCount<'_>| {
            vec![
                d.device.into(),
                number(d.mappings),
                number(d.most_mappings),
                number(d.sessions),
                number(d.most_sessions),
                refused(d.refused),
            ]
        };
        let rows: Vec<Vec<Cell>> = counters.devices.iter().map(row).collect();
        table::write(out, &columns, &rows, view.width)?;
        let columns = [
            Column::text("EXTERNAL ADDRESS"),
            Column::text("DEVICE").expendable(9),
            Column::number("MAPPINGS"),
            Column::number("MOST"),
            Column::number("AT").expendable(8),
            Column::number("MADE"),
        ];
        let row = |a: &zarnet_analysis::answer::AddressCount<'_>| {
            let address = Cell::from(a.address.to_string());
            let (most, at) = (number(a.most), moment(a.most, a.most_at));
            vec![address, device(a.device), number(a.mappings), most, at, number(a.made)]
        };
        let rows: Vec<Vec<Cell>> = counters.addresses.iter().map(row).collect();
        section(out, &columns, &rows, view)?;
        let reasons =
            counters.devices.iter().flat_map(|d| d.refused_by.iter().map(move |r| (d.device, r)));
        let rows: Vec<Vec<Cell>> = reasons
            .map(|(d, (reason, n))| vec![Cell::styled(*reason, BAD), device(d), number(*n)])
            .collect();
        let columns = [
            Column::text("PACKETS REFUSED AS"),
            Column::text("DEVICE").expendable(9),
            Column::number("PACKETS"),
        ];
        section(out, &columns, &rows, view)?;
    }
    Ok(())
}
