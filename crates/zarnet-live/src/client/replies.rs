//! What answers say: errors, data, where resources are.

use serde_json::Value;
use zarnet_formats::data_model::{Schema, parse};

use super::ClientError;
use super::connection::Reply;

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
pub(super) fn document(reply: &Reply) -> Result<Value, ClientError> {
    let kind = reply.header("content-type").unwrap_or_default();
    if !kind.contains("json") {
        return Err(ClientError::NotData(format!("it is `{kind}`, not JSON")));
    }
    let text = std::str::from_utf8(&reply.content)
        .map_err(|_| ClientError::NotData("it is not UTF-8".into()))?;
    parse(text).map_err(|fault| ClientError::NotData(fault.kind.to_string()))
}

/// The value of the one member that an answer has.
pub(super) fn only_value(document: Value) -> Result<Value, ClientError> {
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
pub(super) fn modules(library: &Value) -> Vec<String> {
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
pub(super) fn without_state(document: Value) -> Value {
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

pub(super) fn first(faults: &[zarnet_formats::data_model::DataFault]) -> String {
    faults.first().map(ToString::to_string).unwrap_or_default()
}

/// Where resources are, by what a server tells of itself (RFC 6415, RFC 8040 §3.1).
pub(super) fn root_of(content: &[u8]) -> Result<String, ClientError> {
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
pub(super) fn path_of(url: &str) -> Option<String> {
    let behind = url.split_once("://")?.1;
    behind.find('/').map(|i| behind[i..].to_owned())
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

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
