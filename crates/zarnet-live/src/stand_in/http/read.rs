//! Data that is asked for: whole, below a place, with or without state.

use std::collections::HashMap;
use std::sync::Arc;

use hyper::StatusCode;
use hyper::header::{self, HeaderValue};
use serde::ser::{Serialize, SerializeMap, SerializeSeq, Serializer};
use serde_json::{Map, Value, json};
use zarnet_core::net::Endpoint;
use zarnet_core::plan::DeviceId;
use zarnet_formats::data_model::{DataPath, Edit, Operation, Position, Schema, apply};
use zarnet_formats::ietf_nat::ModuleForm;

use super::body::{self, Answer};
use super::route::{Place, Store};
use super::status::Refusal;
use super::{Asked, Context, library, status};
use crate::protocol::YANG_DATA;
use crate::stand_in::estate::Estate;
use crate::stand_in::rows::Snapshot;
use crate::stand_in::statistics::instances;

/// Which data is wanted (RFC 8040 §4.8.1).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Content {
    All,
    Config,
    State,
}

pub(super) async fn read(
    context: &Context,
    place: Place,
    asked: Asked<'_>,
) -> Result<Answer, Refusal> {
    if library::is_own(&place.asked) {
        return library::own(context, &place.asked).await;
    }
    let (content, depth) = wanted(asked.query)?;
    let content = match place.store {
        Store::Unified | Store::Operational => content,
        Store::Running | Store::Startup => Content::Config,
    };
    if let Some(kinds) = asked.header(header::ACCEPT)
        && !kinds.contains("json")
        && !kinds.contains("*/*")
    {
        let message = format!("the device speaks {YANG_DATA}");
        return Err(Refusal::new(StatusCode::NOT_ACCEPTABLE, "invalid-value", &message));
    }
    let (device, store) = (context.device, place.store);
    let question = move |estate: &mut Estate<'_>| View::of(estate, device, store, content);
    let view = context.engine.ask(question).await.ok_or_else(library::failed)?;
    let known = asked.header(header::IF_NONE_MATCH);
    if content == Content::Config && known.is_some_and(|k| k == "*" || k.contains(&view.tag)) {
        return Ok(view.tagged(body::empty(StatusCode::NOT_MODIFIED)));
    }
    view.answer(place.path, depth)
}

/// The query parameters: `content` and `depth`.
fn wanted(query: Option<&str>) -> Result<(Content, Option<u32>), Refusal> {
    let (mut content, mut depth) = (Content::All, None);
    let wrong = |what: &str| Refusal::new(StatusCode::BAD_REQUEST, "invalid-value", what);
    for pair in query.unwrap_or_default().split('&').filter(|p| !p.is_empty()) {
        match pair.split_once('=').unwrap_or((pair, "")) {
            ("content", "all") => content = Content::All,
            ("content", "config") => content = Content::Config,
            ("content", "nonconfig") => content = Content::State,
            ("depth", "unbounded") => depth = None,
            ("depth", number) => match number.parse().ok().filter(|d| (1..=65_535).contains(d)) {
                Some(number) => depth = Some(number),
                None => return Err(wrong("depth is a number from 1 to 65535, or unbounded")),
            },
            (name, _) => return Err(wrong(&format!("`{name}` is no parameter here"))),
        }
    }
    Ok((content, depth))
}

/// A document at an instant, with rows that are not in it yet.
struct View {
    document: Arc<Value>,
    tag: String,
    changed: jiff::Timestamp,
    /// What time it is on the device.
    now: jiff::Timestamp,
    rows: Option<Rows>,
}

/// Rows of a table, by instance.
struct Rows {
    snapshot: Snapshot,
    /// By instance: whether it has the rows with ports.
    instances: HashMap<u64, bool>,
}

impl View {
    fn of(estate: &mut Estate<'_>, id: DeviceId, store: Store, content: Content) -> Self {
        let datastore = &estate.device(id).datastore;
        let (tag, changed) = (datastore.tag(), datastore.changed);
        let now = estate.clock.timestamp();
        let config = match store {
            Store::Startup => datastore.startup.clone(),
            Store::Unified | Store::Running | Store::Operational => datastore.running.clone(),
        };
        if content == Content::Config {
            return Self { document: config, tag, changed, now, rows: None };
        }
        let snapshot = estate.snapshot(id);
        let state = state(estate, id, &config, &snapshot);
        let by_instance = instances(&config).iter().filter_map(|i| Some((i.id, i.rows?))).collect();
        let document = match content {
            Content::State => state,
            _ => {
                let mut whole = (*config).clone();
                let merge = Edit {
                    operation: Operation::Merge,
                    target: DataPath::default(),
                    value: Some(state),
                    position: Position::Last,
                };
                // what is merged is made of the same document
                let _ = apply(&mut whole, &merge);
                whole
            }
        };
        let rows = Some(Rows { snapshot, instances: by_instance });
        Self { document: Arc::new(document), tag, changed, now, rows }
    }

    fn tagged(&self, mut answer: Answer) -> Answer {
        let date = |at: jiff::Timestamp| at.strftime("%a, %d %b %Y %H:%M:%S GMT").to_string();
        let (changed, now) = (date(self.changed), date(self.now));
        let headers = answer.headers_mut();
        for (name, text) in
            [(header::ETAG, &self.tag), (header::LAST_MODIFIED, &changed), (header::DATE, &now)]
        {
            if let Ok(value) = HeaderValue::from_str(text) {
                headers.insert(name, value);
            }
        }
        answer
    }

    fn answer(self, path: DataPath, depth: Option<u32>) -> Result<Answer, Refusal> {
        let schema = Schema::get();
        let name = match (path.node(), path.steps.last()) {
            (Some(node), Some(last)) => {
                let bare = last.member.rsplit(':').next().unwrap_or(&last.member);
                format!("{}:{bare}", schema.module_of(node))
            }
            _ => "ietf-restconf:data".to_owned(),
        };
        let is_entry = path.steps.last().is_some_and(|s| !s.keys.is_empty());
        let level = Level::of(&path);
        let has_rows = self.rows.is_some() && level != Level::Plain;
        // a row of the table is not in the document
        if let (Some(rows), Level::Entry(instance, index)) = (&self.rows, level) {
            let row = rows.row(instance, index);
            let there = path.find(&self.document).cloned().or(row);
            let entry = there.ok_or_else(|| status::nothing_there(&path.to_string()))?;
            return Ok(self.tagged(body::json(StatusCode::OK, &json!({ name: [entry] }))));
        }
        let is_there = path.find(&self.document).is_some()
            || self.rows.as_ref().is_some_and(|rows| rows.make(level));
        if !is_there {
            return Err(status::nothing_there(&path.to_string()));
        }
        let write = move |view: &Self, out: &mut dyn std::io::Write| -> std::io::Result<()> {
            let empty = Value::Object(Map::new());
            let value = path.find(&view.document).unwrap_or(&empty);
            let shown = Shown { value, level, left: depth, rows: view.rows.as_ref() };
            let mut writer = serde_json::Serializer::new(&mut *out);
            let mut map = writer.serialize_map(Some(1))?;
            match is_entry {
                true => map.serialize_entry(&name, &[shown])?,
                false => map.serialize_entry(&name, &shown)?,
            }
            SerializeMap::end(map)?;
            out.write_all(b"\n")
        };
        let head = self.tagged(body::empty(StatusCode::OK));
        let content = match has_rows {
            true => body::streamed(YANG_DATA, move |out| write(&self, out)),
            false => {
                let mut text = Vec::new();
                write(&self, &mut text).map_err(|_| library::failed())?;
                body::text(StatusCode::OK, YANG_DATA, text)
            }
        };
        let mut answer = content;
        answer.headers_mut().extend(head.headers().clone());
        Ok(answer)
    }
}

impl Rows {
    /// A row by its number.
    fn row(&self, instance: u64, index: u64) -> Option<Value> {
        let with_ports = *self.instances.get(&instance)?;
        let mut rows = self.snapshot.rows_of(with_ports);
        rows.find(|r| u64::from(r.index) == index).map(|r| r.to_value())
    }

    /// Whether rows make something be there that the document does not have.
    fn make(&self, level: Level) -> bool {
        let has = |instance: &u64| {
            self.instances.get(instance).is_some_and(|p| self.snapshot.rows_of(*p).next().is_some())
        };
        match level {
            Level::Table(instance) | Level::Entries(instance) => has(&instance),
            _ => false,
        }
    }
}

/// Where in a document something is, as far as rows belong there.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Level {
    Top,
    Nat,
    Instances,
    InstanceList,
    Instance,
    Table(u64),
    Entries(u64),
    Entry(u64, u64),
    Plain,
}

impl Level {
    fn of(path: &DataPath) -> Self {
        let mut level = Self::Top;
        let mut instance = 0;
        for step in &path.steps {
            level = level.below(&step.member, instance);
            let key = step.keys.first().and_then(|k| k.parse().ok());
            if let (Self::InstanceList, Some(key)) = (level, key) {
                (level, instance) = (Self::Instance, key);
            }
            if let (Self::Entries(_), Some(key)) = (level, key) {
                level = Self::Entry(instance, key);
            }
        }
        level
    }

    fn below(self, member: &str, instance: u64) -> Self {
        match (self, member) {
            (Self::Top, "ietf-nat:nat") => Self::Nat,
            (Self::Nat, "instances") => Self::Instances,
            (Self::Instances, "instance") => Self::InstanceList,
            (Self::Instance, "mapping-table") => Self::Table(instance),
            (Self::Table(_), "mapping-entry") => Self::Entries(instance),
            _ => Self::Plain,
        }
    }
}

/// A value as it is sent.
struct Shown<'a> {
    value: &'a Value,
    level: Level,
    left: Option<u32>,
    rows: Option<&'a Rows>,
}

impl Shown<'_> {
    fn id(&self) -> u64 {
        match self.level {
            Level::Table(id) | Level::Entries(id) => id,
            _ => self.value.get("id").and_then(Value::as_u64).unwrap_or_default(),
        }
    }
}

impl Serialize for Shown<'_> {
    fn serialize<S: Serializer>(&self, out: S) -> Result<S::Ok, S::Error> {
        let rows = self.rows.filter(|_| self.level != Level::Plain);
        let below = |value, level| Shown { value, level, rows, left: self.left.map(|l| l - 1) };
        match (self.value, self.level) {
            (Value::Object(members), level) => {
                let mut map = out.serialize_map(None)?;
                if self.left == Some(1) {
                    return map.end();
                }
                for (name, value) in members {
                    map.serialize_entry(name, &below(value, level.below(name, self.id())))?;
                }
                // what only rows make
                let (missing, next) = match level {
                    Level::Instance => ("mapping-table", Level::Table(self.id())),
                    Level::Table(id) => ("mapping-entry", Level::Entries(id)),
                    _ => ("", Level::Plain),
                };
                let makes = rows.is_some_and(|r| r.make(next));
                if makes && !members.contains_key(missing) {
                    let empty = match next {
                        Level::Entries(_) => Value::Array(Vec::new()),
                        _ => Value::Object(Map::new()),
                    };
                    map.serialize_entry(missing, &below(&empty, next))?;
                }
                map.end()
            }
            (Value::Array(values), level) => {
                let mut list = out.serialize_seq(None)?;
                let entry =
                    if level == Level::InstanceList { Level::Instance } else { Level::Plain };
                for value in values {
                    let shown = Shown { value, level: entry, rows, left: self.left };
                    match (level, rows) {
                        (Level::Entries(_), Some(rows)) => {
                            list.serialize_element(&with_sessions(value, rows))?;
                        }
                        _ => list.serialize_element(&shown)?,
                    }
                }
                if let (Level::Entries(id), Some(rows)) = (level, rows)
                    && let Some(with_ports) = rows.instances.get(&id)
                {
                    for row in rows.snapshot.rows_of(*with_ports) {
                        list.serialize_element(&row.to_value())?;
                    }
                }
                list.end()
            }
            (value, _) => value.serialize(out),
        }
    }
}

/// A configured entry with the sessions under it, where it stands for one pair of ends.
fn with_sessions(entry: &Value, rows: &Rows) -> Value {
    let mut entry = entry.clone();
    let address = entry["external-src-address"].as_str().and_then(|a| {
        let (address, length) = a.split_once('/')?;
        let full = if address.contains(':') { "128" } else { "32" };
        (length == full).then(|| address.parse::<std::net::IpAddr>().ok())?
    });
    let port = entry.pointer("/external-src-port/start-port-number").and_then(Value::as_u64);
    let is_one = entry.pointer("/external-src-port/end-port-number").is_none();
    if let Some(address) = address.filter(|_| is_one) {
        let end = Endpoint::new(address, port.unwrap_or(0) as u16);
        if let Some(sessions) = rows.snapshot.sessions_of(end) {
            entry["zarnet-policy:row"] = json!({ "sessions": sessions });
        }
    }
    entry
}

/// State besides rows.
fn state(estate: &mut Estate<'_>, id: DeviceId, config: &Value, snapshot: &Snapshot) -> Value {
    let mut out = Map::new();
    let interfaces: Vec<Value> = config
        .pointer("/ietf-interfaces:interfaces/interface")
        .and_then(Value::as_array)
        .into_iter()
        .flatten()
        .enumerate()
        .map(|(i, interface)| {
            json!({
                "name": interface["name"],
                "type": interface["type"],
                "admin-status": "up",
                "oper-status": "up",
                "if-index": i + 1,
                "statistics": { "discontinuity-time": estate.clock.date(estate.device(id).started) },
            })
        })
        .collect();
    if !interfaces.is_empty() {
        out.insert("ietf-interfaces:interfaces".into(), json!({ "interface": interfaces }));
    }
    let instances: Vec<Value> = instances(config)
        .iter()
        .map(|i| json!({ "id": i.id, "statistics": estate.statistics(id, i, snapshot) }))
        .collect();
    if !instances.is_empty() {
        out.insert("ietf-nat:nat".into(), json!({ "instances": { "instance": instances } }));
    }
    let datastore = &estate.device(id).datastore;
    if datastore.form == ModuleForm::WithPolicy {
        let save = match datastore.saving {
            crate::stand_in::Saving::WithEdit => "with-edit",
            crate::stand_in::Saving::Explicit => "explicit",
        };
        let mut edge = json!({ "save": save });
        if let Some(unconfirmed) = &datastore.unconfirmed {
            edge["unconfirmed-until"] = json!(unconfirmed.told_until);
        }
        out.insert("zarnet-policy:edge".into(), edge);
    }
    Value::Object(out)
}
