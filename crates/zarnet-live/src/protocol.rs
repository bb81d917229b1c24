//! Names of RESTCONF and of what we add to it.

/// Data as JSON (RFC 8040 §11.3.2).
pub const YANG_DATA: &str = "application/yang-data+json";
/// A list of edits as JSON (RFC 8072 §5.2).
pub const YANG_PATCH: &str = "application/yang-patch+json";
/// Events as they come (RFC 8040 §6.3).
pub const EVENT_STREAM: &str = "text/event-stream";
/// Where a server is told of (RFC 8040 §3.1).
pub const HOST_META: &str = "/.well-known/host-meta";
/// The root of the stand-in.
pub const ROOT: &str = "/restconf";
/// That an edit may be taken back unless it is confirmed: the query parameter
/// [`CONFIRM_WITHIN`].
pub const CONFIRM_CAPABILITY: &str = "urn:zarnet:capability:confirm-within:1.0";
/// Seconds within which an edit is to be confirmed.
pub const CONFIRM_WITHIN: &str = "confirm-within";
/// Our module.
pub const POLICY_MODULE: &str = "zarnet-policy";
/// The stream of events of the stand-in.
pub const STREAM: &str = "device-events";

/// A query parameter of a path, as it is written.
pub fn query_value<'q>(query: Option<&'q str>, name: &str) -> Option<&'q str> {
    query?.split('&').find_map(|pair| {
        let (key, value) = pair.split_once('=').unwrap_or((pair, ""));
        (key == name).then_some(value)
    })
}
