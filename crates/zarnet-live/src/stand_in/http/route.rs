//! What a request is about, by its path.

use hyper::StatusCode;
use hyper::header::{self, HeaderValue};
use zarnet_formats::data_model::DataPath;

use super::body::{self, Answer};
use super::status::Refusal;
use crate::protocol::{HOST_META, ROOT, STREAM, YANG_DATA, YANG_PATCH};

/// A set of data.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Store {
    /// Configuration and state as one (RFC 8040 §3.3.1).
    Unified,
    /// The configuration that runs (RFC 8342).
    Running,
    /// The one that is saved.
    Startup,
    /// What is in use, with its state.
    Operational,
}

/// Data that a request is about.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct Place {
    pub(super) store: Store,
    pub(super) path: DataPath,
    /// The path as it was asked for, where data is that the modules of the device do not have.
    pub(super) asked: String,
}

/// What a request is about.
#[derive(Debug, Clone, PartialEq)]
pub(super) enum Route {
    HostMeta,
    Root,
    LibraryVersion,
    Operations,
    Operation(String),
    Events,
    Data(Place),
}

impl Route {
    pub(super) fn of(path: &str) -> Result<Self, Refusal> {
        let unknown =
            || Refusal::new(StatusCode::NOT_FOUND, "invalid-value", "there is no such resource");
        if path == HOST_META {
            return Ok(Self::HostMeta);
        }
        if path.strip_prefix("/streams/") == Some(STREAM) {
            return Ok(Self::Events);
        }
        let below = path.strip_prefix(ROOT).ok_or_else(unknown)?;
        match below.trim_end_matches('/') {
            "" => return Ok(Self::Root),
            "/yang-library-version" => return Ok(Self::LibraryVersion),
            "/operations" => return Ok(Self::Operations),
            _ => {}
        }
        if let Some(name) = below.strip_prefix("/operations/") {
            return Ok(Self::Operation(name.into()));
        }
        let (store, rest) = match below.strip_prefix("/ds/ietf-datastores:") {
            Some(rest) => {
                let (name, rest) = rest.split_at(rest.find('/').unwrap_or(rest.len()));
                let store = match name {
                    "running" => Store::Running,
                    "startup" => Store::Startup,
                    "operational" => Store::Operational,
                    _ => return Err(unknown()),
                };
                (store, rest)
            }
            None => (Store::Unified, below.strip_prefix("/data").ok_or_else(unknown)?),
        };
        if !rest.is_empty() && !rest.starts_with('/') {
            return Err(unknown());
        }
        let path = match DataPath::parse(rest) {
            Ok(path) => path,
            // told of itself, not by the modules of the engine
            Err(_) if super::library::is_own(rest) => DataPath::default(),
            Err(error) => {
                let message = error.to_string();
                return Err(Refusal::new(StatusCode::NOT_FOUND, "invalid-value", &message));
            }
        };
        Ok(Self::Data(Place { store, path, asked: rest.trim_start_matches('/').into() }))
    }

    fn methods(&self) -> &'static str {
        match self {
            Self::Data(Place { store: Store::Unified | Store::Running, path, .. }) => {
                match path.steps.is_empty() {
                    true => "GET, HEAD, OPTIONS, PUT, PATCH, POST",
                    false => "GET, HEAD, OPTIONS, PUT, PATCH, POST, DELETE",
                }
            }
            Self::Operation(_) => "POST, OPTIONS",
            _ => "GET, HEAD, OPTIONS",
        }
    }

    pub(super) fn options(&self) -> Answer {
        let mut answer = body::empty(StatusCode::OK);
        let headers = answer.headers_mut();
        headers.insert(header::ALLOW, HeaderValue::from_static(self.methods()));
        if self.methods().contains("PATCH") {
            let kinds = format!("{YANG_DATA}, {YANG_PATCH}");
            if let Ok(kinds) = HeaderValue::from_str(&kinds) {
                headers.insert("accept-patch", kinds);
            }
        }
        answer
    }

    pub(super) fn not_allowed(&self) -> Refusal {
        let message = "the resource does not allow this method";
        Refusal::new(StatusCode::METHOD_NOT_ALLOWED, "operation-not-supported", message)
            .with_allowed(self.methods())
    }
}
