//! The answer of `predict` for people.

use std::collections::BTreeMap;
use std::io::{self, Write};

use zarnet_core::Class;
use zarnet_core::device::{MappingRow, SessionRow, State};
use zarnet_core::net::{Endpoint, Instant};
use zarnet_core::plan::DeviceId;
use zarnet_core::predict::NotTranslated;

use super::View;
use super::table::{self, BAD, BOLD, CAUTION, Cell, Column, DIM, GOOD, count, span};
use zarnet_analysis::answer::ProtocolName;
use zarnet_analysis::answer::predict::PredictAnswer;

const MAPPINGS: [Column; 9] = [
    Column::text("PROTOCOL"),
    Column::text("INTERNAL"),
    Column::text("EXTERNAL"),
    Column::text("PEER").expendable(3),
    Column::text("RULE"),
    Column::text("STATE").expendable(1),
    Column::number("SESSIONS").expendable(4),
    Column::number("IDLE FOR").expendable(2),
    Column::number("EXPIRES IN"),
];

const SESSIONS: [Column; 7] = [
    Column::text("PROTOCOL"),
    Column::text("AS SENT"),
    Column::text("AS FORWARDED"),
    Column::text("RULE").expendable(2),
    Column::text("STATE").expendable(1),
    Column::number("IDLE FOR").expendable(3),
    Column::number("EXPIRES IN"),
];

/// Writes the whole answer.
pub fn text(out: &mut dyn Write, answer: PredictAnswer<'_>, view: View) -> io::Result<()> {
    let tables = answer
        .prediction
        .tables
        .iter()
        .filter(|t| answer.only.is_none_or(|d| d == t.device))
        .peekable();
    for table in tables {
        mappings(out, answer, table.device, &table.mappings, view)?;
        if answer.sessions {
            writeln!(out)?;
            sessions(out, answer, table.device, &table.sessions, view)?;
        }
        writeln!(out)?;
    }
    flows(out, answer)?;
    missing(out, answer, view)?;
    counters(out, answer, view)
}

fn title(
    out: &mut dyn Write,
    answer: PredictAnswer<'_>,
    device: DeviceId,
    what: &str,
) -> io::Result<()> {
    let at = answer.prediction.at;
    writeln!(out, "{BOLD}{what} of {} at {at}{BOLD:#}", answer.device(device))
}

fn state(state: Option<State>, fixed: bool) -> Cell {
    match state {
        None if fixed => Cell::styled("fixed", DIM),
        None => "idle".into(),
        Some(s @ (State::Open | State::Established | State::ClientFin | State::ServerFin)) => {
            Cell::styled(s.name(), GOOD)
        }
        Some(s @ State::Reset) => Cell::styled(s.name(), BAD),
        Some(s) => Cell::styled(s.name(), CAUTION),
    }
}

fn idle(at: Instant, last: Option<Instant>) -> Cell {
    last.map_or(Cell::default(), |l| span(at - l).into())
}

fn mappings(
    out: &mut dyn Write,
    answer: PredictAnswer<'_>,
    device: DeviceId,
    rows: &[MappingRow],
    view: View,
) -> io::Result<()> {
    title(out, answer, device, "Translation table")?;
    let at = answer.prediction.at;
    let fixed = rows.iter().filter(|m| m.fixed).count();
    if rows.is_empty() {
        writeln!(
            out,
            "empty: no rule of this device is permanent, and nothing is mapped at this moment"
        )?;
        let peak = answer.prediction.peak_mappings;
        if peak > 0 {
            writeln!(
                out,
                "{DIM}most were {} at {}: --at peak{DIM:#}",
                count(peak, "mapping", "mappings"),
                answer.prediction.peak_at
            )?;
        }
        return Ok(());
    }
    let shown = if view.rows == 0 { rows.len() } else { rows.len().min(view.rows) };
    let row = |m: &MappingRow| -> Vec<Cell> {
        let external = if m.freely { format!("{} *", m.external) } else { m.external.to_string() };
        let expires = m.expires.map_or(Cell::styled("never", DIM), |e| span(e - at).into());
        let peer = m.peer.map_or(Cell::styled("any", DIM), |p| p.to_string().into());
        vec![
            ProtocolName(m.protocol).to_string().into(),
            m.internal.to_string().into(),
            external.into(),
            peer,
            answer.rule(device, m.rule).into(),
            state(m.state, m.fixed),
            m.sessions.to_string().into(),
            idle(at, m.last_active),
            expires,
        ]
    };
    let cells: Vec<Vec<Cell>> = rows[..shown].iter().map(row).collect();
    let gone = table::write(out, &MAPPINGS, &cells, view.width)?;
    let dynamic = rows.len() - fixed;
    let mut footer = format!(
        "{} ({fixed} fixed, {dynamic} dynamic)",
        count(rows.len() as u64, "mapping", "mappings")
    );
    if shown < rows.len() {
        footer = format!("{shown} of {footer} shown; --rows 0 shows all");
    }
    if !gone.is_empty() {
        footer += &format!("; no room for {}", gone.join(", ").to_lowercase());
    }
    if rows[..shown].iter().any(|m| m.freely) {
        footer += "; * the device could as well choose another";
    }
    if !answer.sessions {
        footer += "; --sessions shows the sessions under them";
    }
    writeln!(out, "{DIM}{footer}{DIM:#}")
}

fn sessions(
    out: &mut dyn Write,
    answer: PredictAnswer<'_>,
    device: DeviceId,
    rows: &[SessionRow],
    view: View,
) -> io::Result<()> {
    title(out, answer, device, "Sessions")?;
    if rows.is_empty() {
        return writeln!(out, "none at this moment");
    }
    let at = answer.prediction.at;
    let shown = if view.rows == 0 { rows.len() } else { rows.len().min(view.rows) };
    let row = |s: &SessionRow| -> Vec<Cell> {
        let rules: Vec<&str> = s.rules.iter().flatten().map(|r| answer.rule(device, *r)).collect();
        let tuple = |t: zarnet_core::net::Tuple| {
            let port = if s.protocol.has_query_id() { 0 } else { t.destination.port };
            format!("{} -> {}", t.source, Endpoint { port, ..t.destination })
        };
        vec![
            s.protocol.to_string().into(),
            tuple(s.original).into(),
            tuple(s.translated).into(),
            rules.join(", ").into(),
            state(Some(s.state), false),
            idle(at, Some(s.last_active)),
            span(s.expires - at).into(),
        ]
    };
    let cells: Vec<Vec<Cell>> = rows[..shown].iter().map(row).collect();
    let gone = table::write(out, &SESSIONS, &cells, view.width)?;
    let mut footer = count(rows.len() as u64, "session", "sessions");
    if shown < rows.len() {
        footer = format!("{shown} of {footer} shown; --rows 0 shows all");
    }
    if !gone.is_empty() {
        footer += &format!("; no room for {}", gone.join(", ").to_lowercase());
    }
    writeln!(out, "{DIM}{footer}{DIM:#}")
}

fn flows(out: &mut dyn Write, answer: PredictAnswer<'_>) -> io::Result<()> {
    let t = answer.prediction.tally;
    let part = |number: u64, name: &str, style: anstyle::Style| match number {
        0 => format!("0 {name}"),
        n => format!("{style}{n} {name}{style:#}"),
    };
    writeln!(
        out,
        "{BOLD}Flows{BOLD:#}  {} in: {}, {}, {}, {}",
        t.total(),
        part(t.translated, "translated", GOOD),
        part(t.untranslated, "untranslated", CAUTION),
        part(t.refused, "refused", BAD),
        part(t.undelivered, "undelivered", BAD)
    )?;
    let errors = answer.prediction.icmp_errors;
    let all = errors.translated + errors.untranslated + errors.dropped;
    if all > 0 {
        let what = count(all, "ICMP error", "ICMP errors");
        writeln!(
            out,
            "{DIM}{what} of the capture: {} translated, {} passed on as sent, {} dropped; none \
             changes a table{DIM:#}",
            errors.translated, errors.untranslated, errors.dropped
        )?;
    }
    if answer.prediction.link_only > 0 {
        let n = count(answer.prediction.link_only, "packet", "packets");
        writeln!(
            out,
            "{DIM}{n} of the capture stay on their link: multicast, broadcast or link-local{DIM:#}"
        )?;
    }
    if answer.prediction.unattributed > 0 {
        let n = count(answer.prediction.unattributed, "packet", "packets");
        writeln!(
            out,
            "{DIM}{n} of the capture left unjudged: sent by the device itself, seen behind its \
             translation only, or from elsewhere{DIM:#}"
        )?;
    }
    Ok(())
}

/// Flows that were not translated, by reason, device and rule: how many, what it means, and the
/// first of them.
fn missing(out: &mut dyn Write, answer: PredictAnswer<'_>, view: View) -> io::Result<()> {
    let all = &answer.prediction.not_translated;
    if all.is_empty() {
        return Ok(());
    }
    let mut groups: BTreeMap<_, (u64, &NotTranslated, &NotTranslated)> = BTreeMap::new();
    for not in all {
        let key = (not.reason, not.device, not.rule, not.place);
        groups.entry(key).and_modify(|g| (g.0, g.2) = (g.0 + 1, not)).or_insert((1, not, not));
    }
    let mut groups: Vec<_> = groups.into_values().collect();
    groups.sort_by_key(|g| (std::cmp::Reverse(g.0), g.1.flow.start));
    writeln!(out, "\n{BOLD}Not translated{BOLD:#}")?;
    let digits = groups.iter().map(|g| g.0.to_string().len()).max().unwrap_or(1);
    let most = if view.rows == 0 { groups.len() } else { groups.len().min(view.rows.max(5)) };
    let indent = " ".repeat(digits + 2);
    for (number, first, last) in &groups[..most] {
        let m = answer.missing(first);
        let style = if first.reason.class() == Class::Untranslated { CAUTION } else { BAD };
        writeln!(
            out,
            "{number:>digits$}  {style}{}{style:#}  {}",
            m.reason,
            first.reason.sentence()
        )?;
        let mut blame = Vec::new();
        blame.extend(m.rule.map(|r| format!("rule {r}")));
        blame.extend(m.device.filter(|_| answer.plan.devices.len() > 1).map(|d| format!("on {d}")));
        blame.extend(m.place.map(|p| p.to_string()));
        let blame =
            if blame.is_empty() { String::new() } else { format!(" ({})", blame.join(", ")) };
        let until =
            if *number > 1 { format!(", last at {}", last.flow.start) } else { String::new() };
        writeln!(
            out,
            "{indent}{DIM}first{DIM:#} {} {DIM}at {}{until}{blame}{DIM:#}",
            m.flow, first.flow.start
        )?;
    }
    if most < groups.len() {
        writeln!(out, "{DIM}{most} of {} kinds shown; --rows 0 shows all{DIM:#}", groups.len())?;
    }
    writeln!(out, "{DIM}`zarnet why PLAN FLOW` finds the cause of one, and tries repairs{DIM:#}")
}

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

fn counters(out: &mut dyn Write, answer: PredictAnswer<'_>, view: View) -> io::Result<()> {
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
