//! The answer of `rules` as text.

use std::io::{self, Write};

use zarnet_analysis::answer::rules::{RuleShape, RulesAnswer};

use super::table::{self, BAD, BOLD, Cell, Column, DIM, count};

/// Writes the answer: a table for each device.
pub fn text(answer: &RulesAnswer, out: &mut dyn Write, width: usize) -> io::Result<()> {
    let counted = answer.rules.iter().any(|r| r.opened.is_some());
    let mut columns = vec![
        Column::number("#"),
        Column::text("RULE"),
        Column::text("TYPE"),
        Column::text("FROM").expendable(3),
        Column::text("INTO").expendable(4),
        Column::text("SOURCE").expendable(2),
        Column::text("DESTINATION").expendable(5),
        Column::text("SERVICE").expendable(6),
        Column::text("BECOMES"),
    ];
    if counted {
        columns.extend([Column::number("OPENED"), Column::number("REFUSED")]);
    }
    let mut devices: Vec<&str> = answer.rules.iter().map(|r| r.device.as_str()).collect();
    devices.dedup();
    if devices.is_empty() {
        return writeln!(out, "no device of the plan has rules");
    }
    for device in devices {
        writeln!(out, "{BOLD}Rules of {device}{BOLD:#}, in the order in which they are tried")?;
        let own = answer.rules.iter().filter(|r| r.device == device);
        let rows: Vec<Vec<Cell>> = own.map(|r| row(r, counted)).collect();
        table::write(out, &columns, &rows, width)?;
        writeln!(out)?;
    }
    let disabled = answer.rules.iter().filter(|r| !r.enabled).count();
    let all = count(answer.rules.len() as u64, "rule", "rules");
    writeln!(out, "{DIM}{all}, {disabled} disabled{DIM:#}")?;
    if !counted {
        writeln!(out, "{DIM}next: zarnet rules PLAN TRAFFIC shows how often each was used{DIM:#}")?;
    }
    Ok(())
}

fn row(rule: &RuleShape, counted: bool) -> Vec<Cell> {
    let any = |list: &[String]| match list {
        [] => "any".to_owned(),
        some => some.join(", "),
    };
    let name = match rule.enabled {
        true => Cell::from(rule.name.as_str()),
        false => Cell::styled(format!("{} (disabled)", rule.name), DIM),
    };
    let mut cells = vec![
        rule.position.to_string().into(),
        name,
        rule.r#type.into(),
        rule.from.join(", ").into(),
        rule.into.join(", ").into(),
        any(&rule.source).into(),
        any(&rule.destination).into(),
        any(&rule.service).into(),
        rule.becomes.as_str().into(),
    ];
    if counted {
        let refused = rule.refused.unwrap_or(0);
        cells.push(rule.opened.unwrap_or(0).to_string().into());
        cells.push(match refused {
            0 => "0".into(),
            n => Cell::styled(n.to_string(), BAD),
        });
    }
    cells
}
