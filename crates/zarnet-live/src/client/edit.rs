//! One edit in one request: a list of edits where the device takes that, else a merge, else the
//! whole configuration. All are conditional on the version that was read.

use hyper::Method;
use serde_json::{Map, Value, json};
use zarnet_formats::data_model::{Edit, Operation, Position, Schema};

use super::ClientError;
use super::connection::Asked;
use super::device::{Device, SENT};
use super::replies::{allowed, refused};
use crate::protocol::{CONFIRM_WITHIN, POLICY_MODULE, YANG_PATCH};

impl Device {
    /// Makes edits that lead to a configuration, all or none.
    ///
    /// # Errors
    /// [`ClientError::NoAnswer`] leaves open whether it was made; any other error does not.
    pub(super) fn edit(
        &mut self,
        edits: &[Edit],
        target: &Value,
        version: Option<&str>,
        confirm_within: Option<u64>,
    ) -> Result<(), ClientError> {
        let query = confirm_within.map(|s| format!("?{CONFIRM_WITHIN}={s}")).unwrap_or_default();
        let path = format!("{}/data{query}", self.root);
        let only_adds =
            edits.iter().all(|e| matches!(e.operation, Operation::Merge | Operation::Create));
        let (method, kind, content) = match (self.abilities.yang_patch, only_adds) {
            (true, _) => (Method::PATCH, YANG_PATCH, patch(edits)),
            (false, true) => {
                (Method::PATCH, SENT, json!({ "ietf-restconf:data": touched(edits, target) }))
            }
            (false, false) => (Method::PUT, SENT, json!({ "ietf-restconf:data": target })),
        };
        let asked = Asked {
            path,
            accept: Some(SENT),
            kind: Some(kind),
            if_match: version,
            content: serde_json::to_vec(&content).unwrap_or_default(),
        };
        let reply = self.client.write(&method, &asked)?;
        allowed(&reply)?;
        match reply.status {
            200..300 => Ok(()),
            412 => Err(ClientError::ChangedMeanwhile),
            // whether a device that failed has made it, only reading back tells
            500.. => Err(ClientError::NoAnswer(refused(&reply).to_string())),
            _ => Err(refused(&reply)),
        }
    }

    /// Calls an operation of our module.
    ///
    /// # Errors
    /// As for [`Device::edit`].
    pub(super) fn operate(&mut self, name: &str) -> Result<(), ClientError> {
        let path = format!("{}/operations/{POLICY_MODULE}:{name}", self.root);
        let asked = Asked { path, accept: Some(SENT), ..Asked::default() };
        let reply = self.client.write(&Method::POST, &asked)?;
        allowed(&reply)?;
        match reply.status {
            200..300 => Ok(()),
            _ => Err(refused(&reply)),
        }
    }
}

/// Edits as a list of edits (RFC 8072 §2.2).
fn patch(edits: &[Edit]) -> Value {
    let schema = Schema::get();
    let one = |(n, edit): (usize, &Edit)| {
        let mut out = Map::new();
        out.insert("edit-id".into(), json!(format!("edit-{n}")));
        out.insert("operation".into(), json!(edit.operation.name()));
        out.insert("target".into(), json!(edit.target.to_string()));
        let keys = |keys: &Vec<String>| {
            edit.target
                .split()
                .map(|(above, last)| above.with(&last.member, keys.clone()).to_string())
        };
        let ordered = matches!(edit.operation, Operation::Insert | Operation::Move);
        match &edit.position {
            _ if !ordered => {}
            Position::First => {
                out.insert("where".into(), json!("first"));
            }
            Position::Last => {
                out.insert("where".into(), json!("last"));
            }
            Position::Before(at) => {
                out.insert("point".into(), json!(keys(at)));
                out.insert("where".into(), json!("before"));
            }
            Position::After(at) => {
                out.insert("point".into(), json!(keys(at)));
                out.insert("where".into(), json!("after"));
            }
        }
        if let (Some(value), Some(last)) = (&edit.value, edit.target.steps.last()) {
            let module = edit.target.node().map_or("", |n| schema.module_of(n));
            let bare = last.member.rsplit(':').next().unwrap_or(&last.member);
            let name = format!("{module}:{bare}");
            let value = if last.keys.is_empty() { value.clone() } else { json!([value]) };
            out.insert("value".into(), json!({ name: value }));
        }
        Value::Object(out)
    };
    let list: Vec<Value> = (1..).zip(edits).map(one).collect();
    json!({ "ietf-yang-patch:yang-patch": { "patch-id": "zarnet", "edit": list } })
}

/// The top-level members that edits touch, as they are to be.
fn touched(edits: &[Edit], target: &Value) -> Value {
    let mut out = Map::new();
    for edit in edits {
        if let Some(first) = edit.target.steps.first()
            && let Some(value) = target.get(&first.member)
        {
            out.insert(first.member.clone(), value.clone());
        }
    }
    Value::Object(out)
}
