//! The answer of `exposure` as text.

use std::io::{self, Write};

use zarnet_analysis::answer::exposure::{ExposedShape, ExposureAnswer};

use super::table::{self, BAD, BOLD, CAUTION, Cell, Column, DIM, count};

/// Writes the answer as a table.
pub fn text(answer: &ExposureAnswer, out: &mut dyn Write, width: usize) -> io::Result<()> {
    let from = if answer.from == "internet" { "the internet" } else { &answer.from };
    writeln!(out, "{BOLD}What can be reached from {from}{BOLD:#}")?;
    let columns = [
        Column::text("CONNECT TO"),
        Column::text("SERVER"),
        Column::text("WHO MAY"),
        Column::text("THROUGH").expendable(3),
        Column::text("RULE").expendable(1),
        Column::text("POLICY").expendable(2),
    ];
    let rows: Vec<Vec<Cell>> = answer.exposed.iter().map(row).collect();
    table::write(out, &columns, &rows, width)?;
    let ways = count(answer.exposed.len() as u64, "way in", "ways in");
    writeln!(out, "{DIM}{ways}; everything else is refused, or reaches nobody{DIM:#}")?;
    if !answer.unknown.is_empty() {
        let names = answer.unknown.join(", ");
        writeln!(
            out,
            "{BAD}not known{BAD:#}: {names} has more classes of packets than are gone through \
             (docs/limits.md)"
        )?;
    }
    Ok(())
}

fn row(way: &ExposedShape) -> Vec<Cell> {
    let service = match &way.port {
        Some(port) => format!(":{port}/{}", way.protocol),
        None if way.protocol == "any" => String::new(),
        None => format!("/{}", way.protocol),
    };
    let port = way.server.port.map_or(String::new(), |p| format!(":{p}"));
    let name = match &way.server.host {
        Some(host) => format!("{host} ({}{port})", way.server.address),
        None => format!("{}{port}", way.server.address),
    };
    let policy = way.policy.map_or("by default".to_owned(), |n| format!("entry {n}"));
    let who = match way.sources.as_str() {
        "everybody" => Cell::styled("everybody", CAUTION),
        some => some.into(),
    };
    vec![
        format!("{}{service}", way.address).into(),
        name.into(),
        who,
        way.through.join(", ").into(),
        way.rule.as_deref().unwrap_or("none").into(),
        policy.into(),
    ]
}
