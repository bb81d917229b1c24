//! What a device can, its configuration, and its table.

use serde_json::{Map, Value, json};
use zarnet_formats::data_model::{Foreign, Schema, check, parse};
use zarnet_formats::ietf_nat::{Form, Row, RowError, read_rows};

use super::connection::{Asked, Client, Reply, failed_read};
use super::{Access, ClientError, Limits};
use crate::protocol::{CONFIRM_CAPABILITY, HOST_META, POLICY_MODULE, YANG_DATA, YANG_PATCH};

/// Media types of data, the standard's first: drafts and careless servers have others.
const DATA: &str = "application/yang-data+json, application/yang.api+json;q=0.5, \
                    application/json;q=0.4";

/// A set of data (RFC 8342).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Store {
    /// The configuration that runs.
    Running,
    /// The one that is saved.
    Startup,
}

/// What a device can.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Abilities {
    /// Whether it knows `zarnet-policy`.
    pub policy: bool,
    /// Whether it has the stores of RFC 8527.
    pub stores: bool,
    /// Whether it takes lists of edits (RFC 8072).
    pub yang_patch: bool,
    /// Whether an edit can be taken back by itself.
    pub confirm: bool,
    /// Where it tells of events, if it does.
    pub events: Option<String>,
}

/// A configuration, and what it is known by.
#[derive(Debug, Clone, PartialEq)]
pub struct Configuration {
    /// The configuration.
    pub document: Value,
    /// Its version, as the device writes it; none if it has none.
    pub version: Option<String>,
}

/// A device.
pub struct Device {
    pub(super) client: Client,
    /// Where its resources are.
    pub(super) root: String,
    /// What it can.
    pub abilities: Abilities,
}

impl Device {
    /// Finds out where its resources are and what it can.
    ///
    /// # Errors
    /// It cannot be reached, is not believed, or refuses access.
    pub fn open(access: &Access, limits: Limits, learn: bool) -> Result<Self, ClientError> {
        let mut client = Client::new(access, limits, learn)?;
        let meta = client.get(HOST_META, "application/xrd+xml")?;
        allowed(&meta)?;
        let root = match meta.status {
            200 => root_of(&meta.content)?,
            _ => "/restconf".to_owned(),
        };
        let mut device = Self { client, root, abilities: Abilities::default() };
        device.abilities = device.find_abilities()?;
        Ok(device)
    }

    fn find_abilities(&mut self) -> Result<Abilities, ClientError> {
        let mut found = Abilities::default();
        let library = self.optional("/data/ietf-yang-library:yang-library")?;
        let older = match &library {
            Some(_) => None,
            None => self.optional("/data/ietf-yang-library:modules-state")?,
        };
        let modules = library.as_ref().or(older.as_ref()).map(modules).unwrap_or_default();
        found.policy = modules.iter().any(|m| m == POLICY_MODULE);
        let stores = library.as_ref().and_then(|l| l.get("datastore")?.as_array());
        let has = |name: &str| {
            stores.is_some_and(|list| {
                list.iter().any(|s| s["name"].as_str().is_some_and(|n| n.ends_with(name)))
            })
        };
        found.stores = has(":running") && has(":startup");
        if let Some(state) = self.optional("/data/ietf-restconf-monitoring:restconf-state")? {
            let capabilities = state.pointer("/capabilities/capability").and_then(Value::as_array);
            let can = |what: &str| {
                capabilities.is_some_and(|c| {
                    c.iter().any(|c| c.as_str().is_some_and(|c| c.starts_with(what)))
                })
            };
            found.confirm = can(CONFIRM_CAPABILITY);
            found.yang_patch = can("urn:ietf:params:restconf:capability:yang-patch");
            let streams = state.pointer("/streams/stream").and_then(Value::as_array);
            found.events = streams.into_iter().flatten().find_map(|s| {
                let access = s.get("access")?.as_array()?;
                let json = access.iter().find(|a| a["encoding"] == "json")?;
                path_of(json["location"].as_str()?)
            });
        }
        if !found.yang_patch {
            let asked = Asked { path: format!("{}/data", self.root), ..Asked::default() };
            let reply = self.client.write(&hyper::Method::OPTIONS, &asked)?;
            found.yang_patch =
                reply.header("accept-patch").is_some_and(|kinds| kinds.contains(YANG_PATCH));
        }
        Ok(found)
    }

    /// The form in which the device takes configuration.
    pub fn form(&self) -> Form {
        if self.abilities.policy { Form::WithPolicy } else { Form::Standard }
    }

    /// What time it was on the device when it answered last; our own if it does not tell.
    pub fn date(&self) -> jiff::Timestamp {
        self.client.date()
    }

    /// What its certificate is known by.
    pub fn fingerprint(&self) -> Option<crate::fingerprint::Fingerprint> {
        self.client.shown()
    }

    /// Data that a device may have or not: the value of its one member.
    pub(super) fn optional(&mut self, path: &str) -> Result<Option<Value>, ClientError> {
        let reply = self.client.get(&format!("{}{path}", self.root), DATA)?;
        allowed(&reply)?;
        match reply.status {
            200 => Ok(Some(only_value(document(&reply)?)?)),
            404 | 405 | 406 | 400 | 501 | 204 => Ok(None),
            _ => Err(refused(&reply)),
        }
    }

    /// A configuration: that of a store, without state.
    ///
    /// # Errors
    /// It cannot be had, or is not what the modules allow. `None` if the device keeps no such store.
    pub fn configuration(&mut self, store: Store) -> Result<Option<Configuration>, ClientError> {
        let path = match (store, self.abilities.stores) {
            (Store::Startup, false) => return Ok(None),
            (Store::Startup, true) => "/ds/ietf-datastores:startup",
            (Store::Running, true) => "/ds/ietf-datastores:running",
            (Store::Running, false) => "/data?content=config",
        };
        let mut reply = self.client.get(&format!("{}{path}", self.root), DATA);
        let may_know_no_parameters = match &reply {
            Ok(reply) => reply.status == 400,
            // there are servers that parameters throw off course
            Err(error) => matches!(error, ClientError::NoAnswer(_)) && path.contains('?'),
        };
        if may_know_no_parameters && store == Store::Running {
            reply = self.client.get(&format!("{}/data", self.root), DATA);
        }
        let reply = match reply {
            Err(ClientError::NoAnswer(_)) if path.contains('?') => {
                return self.by_module().map(Some);
            }
            reply => reply?,
        };
        allowed(&reply)?;
        if !(200..300).contains(&reply.status) {
            return match store {
                Store::Startup => Ok(None),
                Store::Running => self.by_module().map(Some),
            };
        }
        let document = only_value(document(&reply)?)?;
        let version = reply.header("etag").map(str::to_owned);
        Ok(Some(Configuration { document: without_state(document), version }))
    }

    /// The configuration module by module, of a server that does not tell all at once.
    fn by_module(&mut self) -> Result<Configuration, ClientError> {
        let schema = Schema::get();
        let mut whole = Map::new();
        let mut version = None;
        for node in schema.children(None) {
            let member = schema.node(*node).member;
            let path = format!("{}/data/{member}", self.root);
            let reply = self.client.get(&path, DATA)?;
            if reply.status == 200 {
                whole.insert(member.into(), only_value(document(&reply)?)?);
                version = version.or(reply.header("etag").map(str::to_owned));
            }
        }
        if whole.is_empty() {
            return Err(ClientError::NotData("it has no configuration that is known".into()));
        }
        Ok(Configuration { document: without_state(Value::Object(whole)), version })
    }

    /// Reads the table, row by row; tells how many rows there were.
    ///
    /// # Errors
    /// It cannot be had, is not a table, or is longer than is taken.
    pub fn rows(&mut self, mut take: impl FnMut(Row)) -> Result<u64, ClientError> {
        let base = match self.abilities.stores {
            true => "/ds/ietf-datastores:operational",
            false => "/data",
        };
        let path = format!("{}{base}/ietf-nat:nat", self.root);
        let most = self.client.limits.stream;
        let read = match self.client.stream(&path, DATA)? {
            Ok(mut streamed) => {
                let mut counted = Watched { inner: &mut streamed, failed: None };
                let read =
                    read_rows(std::io::BufReader::with_capacity(1 << 16, &mut counted), &mut take);
                match (read, counted.failed) {
                    (_, Some(error)) => Err(failed_read(&error, most)),
                    (Ok(count), None) => Ok(count),
                    (Err(RowError::Json(e)), None) if e.is_eof() => {
                        Err(ClientError::NoAnswer("it ended in the middle".into()))
                    }
                    (Err(error), None) => Err(ClientError::NotData(error.to_string())),
                }
            }
            Err(reply) if reply.status == 404 => Ok(0),
            Err(reply) => {
                allowed(&reply)?;
                Err(refused(&reply))
            }
        };
        if read.is_err() {
            self.client.forget();
        }
        read
    }

    /// All that it tells at once: configuration, state and the table, as one tree.
    ///
    /// # Errors
    /// It cannot be had, or is more than is kept whole.
    pub fn whole(&mut self) -> Result<Value, ClientError> {
        let base = if self.abilities.stores { "/ds/ietf-datastores:operational" } else { "/data" };
        let whole = self.optional(base)?;
        whole.ok_or_else(|| ClientError::NotData("it tells nothing as a whole".into()))
    }

    /// The statistics of its instances, as RFC 8512 has them.
    ///
    /// # Errors
    /// They cannot be had.
    pub fn statistics(&mut self) -> Result<Vec<(u64, Value)>, ClientError> {
        let base = if self.abilities.stores { "/ds/ietf-datastores:operational" } else { "/data" };
        let configured = self.configuration(Store::Running)?;
        let instances = configured
            .as_ref()
            .and_then(|c| c.document.pointer("/ietf-nat:nat/instances/instance")?.as_array());
        let ids: Vec<u64> =
            instances.into_iter().flatten().filter_map(|i| i.get("id")?.as_u64()).collect();
        let mut list = Vec::new();
        for id in ids {
            let path = format!("{base}/ietf-nat:nat/instances/instance={id}/statistics");
            // a device without counters is a device all the same
            let told = match self.optional(&path) {
                Err(ClientError::Refused { .. }) => None,
                told => told?,
            };
            if let Some(value) = told {
                // what is no statistics of the module is nothing that could be shown
                let document = json!({ "ietf-nat:nat": { "instances": {
                    "instance": [{ "id": id, "statistics": value }],
                } } });
                check(&document, Foreign::PassedOver)
                    .map_err(|f| ClientError::NotData(first(&f)))?;
                list.push((id, value));
            }
        }
        Ok(list)
    }

    /// Whether an edit waits to be confirmed, and when the configuration is saved.
    ///
    /// # Errors
    /// The device cannot be asked.
    pub fn pending(&mut self) -> Result<(Option<String>, bool), ClientError> {
        if !self.abilities.policy {
            return Ok((None, false));
        }
        let edge = self.optional("/data/zarnet-policy:edge?content=nonconfig")?.unwrap_or_default();
        let until = edge.get("unconfirmed-until").and_then(Value::as_str).map(str::to_owned);
        Ok((until, edge.get("save").and_then(Value::as_str) == Some("explicit")))
    }
}

/// A reader that remembers why it failed.
struct Watched<'r, R> {
    inner: &'r mut R,
    failed: Option<std::io::Error>,
}

impl<R: std::io::Read> std::io::Read for Watched<'_, R> {
    fn read(&mut self, buffer: &mut [u8]) -> std::io::Result<usize> {
        self.inner.read(buffer).map_err(|error| {
            let kind = error.kind();
            self.failed = Some(error);
            kind.into()
        })
    }
}

/// Refused access is told as such.
pub(super) fn allowed(reply: &Reply) -> Result<(), ClientError> {
    match reply.status {
        401 | 403 => Err(ClientError::NotAllowed(reply.status)),
        _ => Ok(()),
    }
}

/// What a device says of its refusal.
pub(super) fn refused(reply: &Reply) -> ClientError {
    let value: Value = serde_json::from_slice(&reply.content).unwrap_or_default();
    let mut said: Vec<String> = Vec::new();
    errors(&value, &mut said);
    if said.is_empty() {
        let text = String::from_utf8_lossy(&reply.content);
        said.push(text.chars().take(200).collect());
    }
    said.truncate(5);
    ClientError::Refused { status: reply.status, said: said.join("; ") }
}

/// The errors of an answer, wherever they stand (RFC 8040 §7.1, RFC 8072 §2.3).
fn errors(value: &Value, said: &mut Vec<String>) {
    match value {
        Value::Object(members) => {
            if let Some(tag) = members.get("error-tag").and_then(Value::as_str) {
                let text = |m: &str| members.get(m).and_then(Value::as_str);
                let at = text("error-path").map(|p| format!("{p}: ")).unwrap_or_default();
                said.push(format!("{at}{}", text("error-message").unwrap_or(tag)));
            } else {
                members.values().for_each(|v| errors(v, said));
            }
        }
        Value::Array(list) => list.iter().for_each(|v| errors(v, said)),
        _ => {}
    }
}

/// The content of an answer as JSON that says everything once.
fn document(reply: &Reply) -> Result<Value, ClientError> {
    let kind = reply.header("content-type").unwrap_or_default();
    if !kind.contains("json") {
        return Err(ClientError::NotData(format!("it is `{kind}`, not JSON")));
    }
    let text = std::str::from_utf8(&reply.content)
        .map_err(|_| ClientError::NotData("it is not UTF-8".into()))?;
    parse(text).map_err(|fault| ClientError::NotData(fault.kind.to_string()))
}

/// The value of the one member that an answer has.
fn only_value(document: Value) -> Result<Value, ClientError> {
    let wrong = || ClientError::NotData("it is no object with one member".into());
    let Value::Object(mut members) = document else { return Err(wrong()) };
    let is_data = |name: &str| name.ends_with(":data") || name == "data";
    if let Some(name) = members.keys().find(|n| is_data(n)).cloned() {
        return members.shift_remove(&name).ok_or_else(wrong);
    }
    match members.len() {
        1 => members.into_iter().next().map(|m| m.1).ok_or_else(wrong),
        _ => Err(wrong()),
    }
}

/// The modules of a library, the newer form or the older.
fn modules(library: &Value) -> Vec<String> {
    let mut names = Vec::new();
    let mut add = |list: Option<&Value>| {
        let entries = list.and_then(Value::as_array).into_iter().flatten();
        names.extend(entries.filter_map(|m| m.get("name")?.as_str().map(str::to_owned)));
    };
    add(library.get("module"));
    for set in library.get("module-set").and_then(Value::as_array).into_iter().flatten() {
        add(set.get("module"));
    }
    names
}

/// A document without what nobody configured: state, and rows that traffic made.
fn without_state(document: Value) -> Value {
    fn keep(at: Option<zarnet_formats::data_model::NodeId>, value: Value) -> Option<Value> {
        let schema = Schema::get();
        match value {
            Value::Object(members) => {
                let dynamic = members
                    .get("type")
                    .and_then(Value::as_str)
                    .is_some_and(|t| t.starts_with("dynamic-"));
                if dynamic && at.is_some_and(|n| schema.node(n).member == "mapping-entry") {
                    return None;
                }
                let kept = members.into_iter().filter_map(|(name, value)| {
                    let child = schema.child(at, &name);
                    // what a device tells of itself is no configuration of it
                    let own = ["ietf-yang-library:", "ietf-restconf-monitoring:"];
                    if at.is_none() && own.iter().any(|m| name.starts_with(m)) {
                        return None;
                    }
                    match child {
                        Some(node) if schema.node(node).state => None,
                        Some(node) => Some((name, keep(Some(node), value)?)),
                        None => Some((name, value)),
                    }
                });
                Some(Value::Object(kept.collect()))
            }
            Value::Array(values) => {
                Some(Value::Array(values.into_iter().filter_map(|v| keep(at, v)).collect()))
            }
            value => Some(value),
        }
    }
    keep(None, document).unwrap_or_default()
}

fn first(faults: &[zarnet_formats::data_model::Fault]) -> String {
    faults.first().map(ToString::to_string).unwrap_or_default()
}

/// Where resources are, by what a server tells of itself (RFC 6415, RFC 8040 §3.1).
fn root_of(content: &[u8]) -> Result<String, ClientError> {
    use quick_xml::events::Event;
    let wrong = |e: &dyn std::fmt::Display| ClientError::NotData(format!("host-meta: {e}"));
    let text = std::str::from_utf8(content).map_err(|e| wrong(&e))?;
    let mut reader = quick_xml::Reader::from_str(text);
    loop {
        match reader.read_event().map_err(|e| wrong(&e))? {
            Event::Eof => return Err(wrong(&"it names no RESTCONF")),
            Event::Start(tag) | Event::Empty(tag) => {
                let attribute = |name: &str| {
                    let found = tag.try_get_attribute(name).ok().flatten()?;
                    Some(found.value.into_owned())
                };
                if attribute("rel").as_deref() == Some("restconf") {
                    let href = attribute("href").ok_or_else(|| wrong(&"there is no href"))?;
                    let path = path_of(&href).unwrap_or(href);
                    let is_plain = path.starts_with('/') && !path.contains([' ', '?', '#']);
                    return match is_plain {
                        true => Ok(path.trim_end_matches('/').to_owned()),
                        false => Err(wrong(&"its href is no path")),
                    };
                }
            }
            _ => {}
        }
    }
}

/// The path of a URL. Its host is not looked at: only the device itself is ever asked.
fn path_of(url: &str) -> Option<String> {
    let behind = url.split_once("://")?.1;
    behind.find('/').map(|i| behind[i..].to_owned())
}

/// The media type of data that is sent.
pub(super) const SENT: &str = YANG_DATA;

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_root_is_found_in_what_a_server_tells_of_itself() {
        let meta = |href: &str| {
            format!(
                "<?xml version='1.0'?><XRD xmlns='x'><Link rel='other' href='/a'/><Link rel='restconf' href='{href}'/></XRD>"
            )
        };
        assert_eq!(root_of(meta("/restconf").as_bytes()).unwrap(), "/restconf");
        assert_eq!(root_of(meta("https://evil.example/top/r/").as_bytes()).unwrap(), "/top/r");
        assert!(root_of(b"<XRD/>").is_err());
        assert!(root_of(b"<XRD><Link rel='restconf' href='no path'/></XRD>").is_err());
        assert!(root_of(b"\xff").is_err());
    }

    #[test]
    fn state_and_rows_that_traffic_made_are_no_configuration() {
        let document = json!({ "ietf-nat:nat": { "instances": { "instance": [{
            "id": 1,
            "statistics": { "discontinuity-time": "2026-01-01T00:00:00Z" },
            "mapping-table": { "mapping-entry": [
                { "index": 1, "type": "static" }, { "index": 2, "type": "dynamic-implicit" },
            ] },
        }] } }, "other:thing": 1 });
        let kept = json!({ "ietf-nat:nat": { "instances": { "instance": [{
            "id": 1,
            "mapping-table": { "mapping-entry": [{ "index": 1, "type": "static" }] },
        }] } }, "other:thing": 1 });
        assert_eq!(without_state(document), kept);
    }
}
