//! Tables as devices show them: CSV with the names of our own table, other CSV by a map of its
//! columns, and our own JSON; and translation logs, of which a moment is a table.

mod columns;
mod json;
mod log;
mod rows;

use columns::position;
pub use columns::{COLUMNS, ColumnMap, MAPPING_COLUMNS};
use json::of_json_text;
pub use log::{LogMoment, is_log, of_log};
pub use rows::{of_rows, to_csv};
use std::net::IpAddr;

use serde_json::Value;
use zarnet_core::limits;
use zarnet_core::net::{Endpoint, Instant, NotationError, Protocol};
use zarnet_core::plan::{DeviceId, Plan};

use crate::traffic::{Fault, Given, TrafficError, read_all};

/// An entry of a table as a device shows it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct Observed {
    /// The device; the only one of the plan where the table does not say.
    pub device: DeviceId,
    /// Its protocol; `None` is any.
    pub protocol: Option<Protocol>,
    /// Internal end; port 0 for none.
    pub internal: Endpoint,
    /// External end; port 0 for none.
    pub external: Endpoint,
    /// The peer, where the entry is for one.
    pub peer: Option<Endpoint>,
    /// When it was made, by the clock of the table, if that says so.
    pub created: Option<Instant>,
    /// When it ends if nothing more comes.
    pub expires: Option<Instant>,
    /// The line that it stands in.
    pub line: u64,
}

/// How a table is read.
#[derive(Debug, Clone, Copy, Default)]
pub struct Form<'a> {
    /// Which column is what, where the file does not have our names.
    pub columns: Option<&'a ColumnMap>,
    /// Whose table it is, where it does not say.
    pub of: Option<DeviceId>,
}

/// Reads a table from a file, or from what a pipe held.
///
/// # Errors
/// Everything that is wrong with it, line by line.
pub fn read(
    given: &Given,
    form: Form<'_>,
    plan: &Plan,
) -> Result<Vec<Observed>, Vec<TrafficError>> {
    let input = given.name();
    let whole = |fault| vec![TrafficError { input: input.clone(), line: None, fault }];
    let text = read_all(given, limits::OBSERVED_OCTETS).map_err(whole)?;
    let error = |(line, fault)| TrafficError { input: input.clone(), line, fault };
    parse(&text, form, plan).map_err(|faults| faults.into_iter().map(error).collect())
}

/// Reads a table that is there as text.
///
/// # Errors
/// Everything that is wrong with it, each with its line or the number of its mapping; none where
/// the whole is wrong.
pub fn parse(
    text: &str,
    form: Form<'_>,
    plan: &Plan,
) -> Result<Vec<Observed>, Vec<(Option<u64>, Fault)>> {
    let of = form.of.or((plan.devices.len() == 1).then_some(DeviceId(0)));
    let mut rows = Rows::default();
    let read = match text.trim_start() {
        "" => Err(Fault::Empty),
        t if t.starts_with('{') => {
            of_json_text(t, &mut |n, value| rows.take(n, of_json(value, of, plan)))
        }
        _ => of_csv(text, form.columns, of, plan, &mut rows),
    };
    read.map_err(|fault| vec![(None, fault)])?;
    // a table that does not say whose it is is wrong as a whole
    if !rows.errors.is_empty() && rows.errors.iter().all(|e| e.1 == Fault::MissingColumn("device"))
    {
        return Err(vec![(None, Fault::MissingColumn("device"))]);
    }
    if rows.errors.is_empty() { Ok(rows.entries) } else { Err(rows.errors) }
}

/// Rows as they are read: those that are right, and what is wrong with others.
#[derive(Default)]
struct Rows {
    entries: Vec<Observed>,
    errors: Vec<(Option<u64>, Fault)>,
}

impl Rows {
    /// Takes a row, or the reason why it is none.
    fn take(&mut self, line: u64, entry: Result<Observed, Fault>) -> Result<(), Fault> {
        match entry {
            Ok(_) if self.entries.len() >= limits::OBSERVED_ROWS => {
                return Err(Fault::TooLarge(format!(
                    "it has more than {} rows",
                    limits::OBSERVED_ROWS
                )));
            }
            Ok(entry) => self.entries.push(Observed { line, ..entry }),
            Err(fault) if self.errors.len() < limits::BAD_LINES => {
                self.errors.push((Some(line), fault))
            }
            Err(_) => {}
        }
        Ok(())
    }
}

fn of_csv(
    text: &str,
    columns: Option<&ColumnMap>,
    of: Option<DeviceId>,
    plan: &Plan,
    rows: &mut Rows,
) -> Result<(), Fault> {
    let first = text.lines().find(|l| !l.trim().is_empty() && !l.starts_with('#')).unwrap_or("");
    let delimiter =
        [b'\t', b';', b','].into_iter().max_by_key(|d| first.bytes().filter(|b| b == d).count());
    let mut map = columns.cloned();
    for (i, record) in records(text, delimiter.unwrap_or(b',')).enumerate() {
        let (line, record) = record?;
        match &map {
            None => map = Some(ColumnMap::of_header(&record)?),
            Some(map) => {
                let entry = of_record(&record, map, of, plan);
                // another export has a header of its own
                if i == 0 && entry.is_err() && columns.is_some() {
                    continue;
                }
                rows.take(line, entry)?;
            }
        }
    }
    Ok(())
}

type Record = (u64, csv::StringRecord);

/// The records of a table with the lines that they begin on. Most tables have no quotes, and are
/// split where they lie.
fn records(text: &str, delimiter: u8) -> Box<dyn Iterator<Item = Result<Record, Fault>> + '_> {
    if !text.contains('"') {
        let lines = (1..).zip(text.lines()).filter(|(_, l)| !l.is_empty() && !l.starts_with('#'));
        let fields = move |line: &str| line.split(char::from(delimiter)).collect::<Vec<_>>().into();
        return Box::new(lines.map(move |(n, line)| Ok((n, fields(line)))));
    }
    let mut reader = csv::ReaderBuilder::new();
    let reader = reader.delimiter(delimiter).has_headers(false).flexible(true).comment(Some(b'#'));
    let records = reader.from_reader(text.as_bytes()).into_records();
    Box::new(records.enumerate().map(|(i, record)| {
        let record = record.map_err(|e| Fault::Malformed(e.to_string()))?;
        Ok((record.position().map_or(i as u64 + 1, csv::Position::line), record))
    }))
}

fn of_record(
    record: &csv::StringRecord,
    map: &ColumnMap,
    of: Option<DeviceId>,
    plan: &Plan,
) -> Result<Observed, Fault> {
    let field = |name: &str| {
        position(name).ok().and_then(|p| map.0[p]).and_then(|i| record.get(i)).map_or("", str::trim)
    };
    entry(field, of, plan)
}

fn of_json(value: &Value, of: Option<DeviceId>, plan: &Plan) -> Result<Observed, Fault> {
    let text = |v: Option<&Value>| match v {
        Some(Value::String(text)) => text.clone(),
        Some(Value::Number(number)) => number.to_string(),
        _ => String::new(),
    };
    let fields: Vec<String> = COLUMNS
        .iter()
        .map(|name| match name.strip_suffix("-port") {
            Some(end) => text(value.get(end).and_then(|e| e.get("port"))),
            None => match value.get(name) {
                Some(Value::Object(end)) => text(end.get("address")),
                other => text(other),
            },
        })
        .collect();
    entry(
        |name| position(name).ok().and_then(|p| fields.get(p)).map_or("", String::as_str),
        of,
        plan,
    )
}

fn entry<'a>(
    field: impl Fn(&str) -> &'a str,
    of: Option<DeviceId>,
    plan: &Plan,
) -> Result<Observed, Fault> {
    let device = match field("device") {
        "" => of.ok_or(Fault::MissingColumn("device"))?,
        name => plan.device(name).ok_or_else(|| {
            let names = plan.devices.iter().map(|d| d.name.as_str());
            Fault::UnknownName { name: name.into(), near: zarnet_core::plan::nearest(name, names) }
        })?,
    };
    let protocol = match field("protocol") {
        "" | "any" => None,
        text => {
            let lower = text.to_ascii_lowercase();
            Some(
                lower
                    .parse::<Protocol>()
                    .map_err(|error| Fault::Notation { column: "protocol", error })?,
            )
        }
    };
    let end = |column: &'static str, port: &'static str| end(column, field(column), field(port));
    let internal = end("internal", "internal-port")?.ok_or(Fault::MissingColumn("internal"))?;
    let external = end("external", "external-port")?.ok_or(Fault::MissingColumn("external"))?;
    let peer = end("peer", "peer-port")?;
    let (created, expires) =
        (time("created", field("created"))?, time("expires", field("expires"))?);
    Ok(Observed { device, protocol, internal, external, peer, created, expires, line: 0 })
}

/// Seconds, or nothing.
fn time(column: &'static str, text: &str) -> Result<Option<Instant>, Fault> {
    match text.parse::<f64>() {
        _ if text.is_empty() => Ok(None),
        Ok(seconds) if (0.0..=1e10).contains(&seconds) => Ok(Some(Instant((seconds * 1e9) as u64))),
        _ => Err(Fault::Notation { column, error: NotationError::Time(text.into()) }),
    }
}

/// An address, with its port in a field of its own, or behind it.
fn end(column: &'static str, address: &str, port: &str) -> Result<Option<Endpoint>, Fault> {
    if address.is_empty() || address == "any" {
        return Ok(None);
    }
    let wrong = |error| Fault::Notation { column, error };
    let (who, behind) = match (address.strip_prefix('['), address.rsplit_once(':')) {
        (Some(rest), _) => {
            rest.split_once(']').map(|(a, p)| (a, p.trim_start_matches(':'))).unwrap_or((rest, ""))
        }
        (None, Some((a, p))) if !a.contains(':') => (a, p),
        _ => (address, ""),
    };
    let ip: IpAddr = who.parse().map_err(|_| wrong(NotationError::Address(address.into())))?;
    let port = if port.is_empty() { behind } else { port };
    let port = match port {
        "" | "any" | "*" => 0,
        text => text.parse().map_err(|_| wrong(NotationError::Port(text.into())))?,
    };
    Ok(Some(Endpoint::new(ip, port)))
}
