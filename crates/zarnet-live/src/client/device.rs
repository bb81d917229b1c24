//! What a device can, its configuration, and its table.

use serde_json::{Map, Value, json};
use zarnet_formats::data_model::{Foreign, Schema, check};
use zarnet_formats::ietf_nat::{ModuleForm, Row, RowError, read_rows};

use super::connection::{Asked, Client, failed_read};
use super::replies::{
    allowed, document, first, modules, only_value, path_of, refused, root_of, without_state,
};
use super::{Access, ClientError, Limits};
use crate::protocol::{CONFIRM_CAPABILITY, HOST_META, POLICY_MODULE, YANG_DATA, YANG_PATCH};

/// Media types of data, the standard's first: drafts and careless servers have others.
const DATA: &str = "application/yang-data+json, application/yang.api+json;q=0.5, \
                    application/json;q=0.4";

/// A set of data (RFC 8342).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Store {
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
    pub fn form(&self) -> ModuleForm {
        if self.abilities.policy { ModuleForm::WithPolicy } else { ModuleForm::Standard }
    }

    /// What time it was on the device when it answered last; our own if it does not tell.
    pub fn date(&self) -> jiff::Timestamp {
        self.client.date()
    }

    /// What its certificate is known by.
    pub fn fingerprint(&self) -> Option<crate::fingerprint::Fingerprint> {
        self.client.shown()
    }

    /// Where state is found.
    fn operational(&self) -> &'static str {
        if self.abilities.stores { "/ds/ietf-datastores:operational" } else { "/data" }
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

    /// The configuration that runs, without state.
    ///
    /// # Errors
    /// It cannot be had.
    pub fn running(&mut self) -> Result<Configuration, ClientError> {
        let running = self.configuration(Store::Running)?;
        running.ok_or_else(|| ClientError::NotData("it has no running configuration".into()))
    }

    /// The configuration that is saved; `None` if the device does not show one.
    ///
    /// # Errors
    /// It cannot be had.
    pub fn saved(&mut self) -> Result<Option<Configuration>, ClientError> {
        self.configuration(Store::Startup)
    }

    fn configuration(&mut self, store: Store) -> Result<Option<Configuration>, ClientError> {
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

    /// The whole table. [`Device::rows`] keeps no row.
    ///
    /// # Errors
    /// As for [`Device::rows`].
    pub fn table(&mut self) -> Result<Vec<Row>, ClientError> {
        let mut table = Vec::new();
        self.rows(|row| table.push(row))?;
        Ok(table)
    }

    /// Reads the table, row by row; tells how many rows there were.
    ///
    /// # Errors
    /// It cannot be had, is not a table, or is longer than is taken.
    pub fn rows(&mut self, mut take: impl FnMut(Row)) -> Result<u64, ClientError> {
        let path = format!("{}{}/ietf-nat:nat", self.root, self.operational());
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
        let whole = self.optional(self.operational())?;
        whole.ok_or_else(|| ClientError::NotData("it tells nothing as a whole".into()))
    }

    /// The statistics of its instances, as RFC 8512 has them.
    ///
    /// # Errors
    /// They cannot be had.
    pub fn statistics(&mut self) -> Result<Vec<(u64, Value)>, ClientError> {
        let base = self.operational();
        let configured = self.running()?.document;
        let instances =
            configured.pointer("/ietf-nat:nat/instances/instance").and_then(Value::as_array);
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

/// The media type of data that is sent.
pub(super) const SENT: &str = YANG_DATA;
