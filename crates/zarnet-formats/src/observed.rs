//! Tables as devices show them: CSV with the names of our own table, other CSV by a map of its columns, and our own JSON.

use std::net::IpAddr;
use std::path::Path;

use serde_json::Value;
use zarnet_core::compare::Observed;
use zarnet_core::net::{Endpoint, NotationError, Protocol};
use zarnet_core::plan::{DeviceId, Plan};

use crate::traffic::{Fault, Given, TrafficError, read_all};

/// The columns of a table that matter here.
pub const COLUMNS: [&str; 8] =
    ["device", "protocol", "internal", "internal-port", "external", "external-port", "peer", "peer-port"];
/// Columns of our own table that say nothing about what is there.
const OTHERS: [&str; 7] = ["rule", "type", "fixed", "chosen-freely", "created", "expires", "sessions"];

/// Which column of a table is what, counted from 0.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct ColumnMap([Option<usize>; COLUMNS.len()]);

impl ColumnMap {
    /// Reads `internal=3,external=4,...`, columns counted from 1.
    ///
    /// # Errors
    /// A name that is no column, or a number that is none.
    pub fn parse(text: &str) -> Result<Self, Fault> {
        let mut map = Self::default();
        for part in text.split(',') {
            let (name, number) = part.split_once('=').ok_or_else(|| Fault::Malformed("NAME=NUMBER".into()))?;
            let position = position(name.trim())?;
            let number: usize = number.trim().parse().map_err(|_| Fault::Malformed(format!("a number in `{part}`")))?;
            map.0[position] = Some(number.checked_sub(1).ok_or_else(|| Fault::Malformed("a number from 1".into()))?);
        }
        map.complete()
    }

    /// The columns of a header with our own names.
    fn of_header(header: &csv::StringRecord) -> Result<Self, Fault> {
        let mut map = Self::default();
        for (i, name) in header.iter().enumerate() {
            if OTHERS.contains(&name.trim()) {
                continue;
            }
            let position = position(name.trim())?;
            if map.0[position].replace(i).is_some() {
                return Err(Fault::ColumnTwice(name.into()));
            }
        }
        map.complete()
    }

    fn complete(self) -> Result<Self, Fault> {
        for needed in ["internal", "external"] {
            if self.0[position(needed)?].is_none() {
                return Err(Fault::MissingColumn(needed));
            }
        }
        Ok(self)
    }
}

fn position(name: &str) -> Result<usize, Fault> {
    COLUMNS.iter().position(|c| *c == name).ok_or_else(|| {
        let near = COLUMNS.into_iter().min_by_key(|c| strsim::damerau_levenshtein(c, name));
        Fault::UnknownColumn { name: name.into(), near: near.filter(|n| strsim::damerau_levenshtein(n, name) <= 3) }
    })
}

/// Reads a table. `columns` tells which column is what where the file does not have our names, `of` whose it is where it
/// does not say.
///
/// # Errors
/// Everything that is wrong with it, line by line.
pub fn read(
    path: &Path,
    columns: Option<&ColumnMap>,
    of: Option<DeviceId>,
    plan: &Plan,
) -> Result<Vec<Observed>, Vec<TrafficError>> {
    let of = of.or((plan.devices.len() == 1).then_some(DeviceId(0)));
    let input = path.to_path_buf();
    let given = if path == Path::new("-") { Given::Standard } else { Given::File(input.clone()) };
    let whole = |fault| vec![TrafficError { input: input.clone(), line: None, fault }];
    let text = read_all(&given).map_err(whole)?;
    if text.trim().is_empty() {
        return Err(whole(Fault::Empty));
    }
    let mut errors = Vec::new();
    let mut entries = Vec::new();
    let mut take = |line: u64, entry: Result<Observed, Fault>| match entry {
        Ok(entry) => entries.push(Observed { line, ..entry }),
        Err(fault) => errors.push(TrafficError { input: input.clone(), line: Some(line), fault }),
    };
    if text.trim_start().starts_with('{') {
        let value: Value = serde_json::from_str(&text).map_err(|e| whole(Fault::Malformed(format!("JSON: {e}"))))?;
        let Some(Value::Array(mappings)) = value.get("mappings") else {
            return Err(whole(Fault::MissingColumn("mappings")));
        };
        mappings.iter().zip(1..).for_each(|(m, n)| take(n, of_json(m, of, plan)));
    } else {
        let first = text.lines().find(|l| !l.trim().is_empty() && !l.starts_with('#')).unwrap_or("");
        let delimiter = [b'\t', b';', b','].into_iter().max_by_key(|d| first.bytes().filter(|b| b == d).count());
        let mut reader = csv::ReaderBuilder::new();
        let reader = reader.delimiter(delimiter.unwrap_or(b',')).has_headers(false).flexible(true).comment(Some(b'#'));
        let mut map = columns.cloned();
        for (i, record) in reader.from_reader(text.as_bytes()).records().enumerate() {
            let record = record.map_err(|e| whole(Fault::Malformed(e.to_string())))?;
            let line = record.position().map_or(i as u64 + 1, csv::Position::line);
            match &map {
                None => map = Some(ColumnMap::of_header(&record).map_err(whole)?),
                Some(map) => {
                    let entry = of_record(&record, map, of, plan);
                    // another export has a header of its own
                    if i == 0 && entry.is_err() && columns.is_some() {
                        continue;
                    }
                    take(line, entry);
                }
            }
        }
    }
    // a table that does not say whose it is is wrong as a whole
    if errors.iter().all(|e| e.fault == Fault::MissingColumn("device")) && !errors.is_empty() {
        return Err(whole(Fault::MissingColumn("device")));
    }
    if errors.is_empty() { Ok(entries) } else { Err(errors) }
}

fn of_record(
    record: &csv::StringRecord,
    map: &ColumnMap,
    of: Option<DeviceId>,
    plan: &Plan,
) -> Result<Observed, Fault> {
    let field =
        |name: &str| position(name).ok().and_then(|p| map.0[p]).and_then(|i| record.get(i)).map_or("", str::trim);
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
    entry(|name| position(name).ok().and_then(|p| fields.get(p)).map_or("", String::as_str), of, plan)
}

fn entry<'a>(field: impl Fn(&str) -> &'a str, of: Option<DeviceId>, plan: &Plan) -> Result<Observed, Fault> {
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
            Some(lower.parse::<Protocol>().map_err(|error| Fault::Notation { column: "protocol", error })?)
        }
    };
    let end = |column: &'static str, port: &'static str| end(column, field(column), field(port));
    let internal = end("internal", "internal-port")?.ok_or(Fault::MissingColumn("internal"))?;
    let external = end("external", "external-port")?.ok_or(Fault::MissingColumn("external"))?;
    Ok(Observed { device, protocol, internal, external, peer: end("peer", "peer-port")?, line: 0 })
}

/// An address, with its port in a field of its own, or behind it.
fn end(column: &'static str, address: &str, port: &str) -> Result<Option<Endpoint>, Fault> {
    if address.is_empty() || address == "any" {
        return Ok(None);
    }
    let wrong = |error| Fault::Notation { column, error };
    let (who, behind) = match (address.strip_prefix('['), address.rsplit_once(':')) {
        (Some(rest), _) => rest.split_once(']').map(|(a, p)| (a, p.trim_start_matches(':'))).unwrap_or((rest, "")),
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
