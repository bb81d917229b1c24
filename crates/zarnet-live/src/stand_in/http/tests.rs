//! Requests in, answers out: what RFC 8040 and RFC 8072 ask of a server.

use http_body_util::{BodyExt, Full};
use hyper::body::Bytes;
use hyper::header;
use hyper::{HeaderMap, Request};
use serde_json::{Value, json};

use super::{Context, serve};
use crate::stand_in::server::for_fuzzing;

/// A device and a place to ask it from.
struct Site {
    runtime: tokio::runtime::Runtime,
    context: Context,
}

struct Told {
    status: u16,
    headers: HeaderMap,
    content: Value,
}

impl Told {
    fn tag(&self) -> String {
        self.headers[header::ETAG].to_str().unwrap().to_owned()
    }

    fn error(&self) -> &str {
        self.content["ietf-restconf:errors"]["error"][0]["error-tag"].as_str().unwrap_or_default()
    }
}

impl Site {
    fn new() -> Self {
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
        Self { runtime, context: for_fuzzing() }
    }

    fn ask(&self, line: &str, headers: &[(&str, &str)], content: &Value) -> Told {
        let (method, uri) = line.split_once(' ').unwrap();
        let content = if content.is_null() { String::new() } else { content.to_string() };
        let mut request = Request::builder()
            .method(method)
            .uri(uri)
            .header(header::HOST, "localhost:8443")
            .header(header::AUTHORIZATION, "Bearer token");
        for (name, value) in headers {
            request = request.header(*name, *value);
        }
        self.send(request.body(Full::new(Bytes::from(content))).unwrap())
    }

    fn send(&self, request: Request<Full<Bytes>>) -> Told {
        self.runtime.block_on(async {
            let answer = serve(&self.context, request).await.unwrap();
            let (status, headers) = (answer.status().as_u16(), answer.headers().clone());
            let content = answer.into_body().collect().await.unwrap().to_bytes();
            let content = serde_json::from_slice(&content).unwrap_or_default();
            Told { status, headers, content }
        })
    }

    fn get(&self, path: &str) -> Told {
        self.ask(&format!("GET {path}"), &[], &Value::Null)
    }
}

const DATA: (&str, &str) = ("content-type", "application/yang-data+json");
const PATCH: (&str, &str) = ("content-type", "application/yang-patch+json");
const TABLE: &str = "/restconf/data/ietf-nat:nat/instances/instance=2/mapping-table";

fn forward(index: u32, port: u16) -> Value {
    json!({
        "index": index, "type": "static", "transport-protocol": 6,
        "internal-src-address": "10.0.0.9/32",
        "internal-src-port": { "start-port-number": 80 },
        "external-src-address": "192.0.2.1/32",
        "external-src-port": { "start-port-number": port },
    })
}

#[test]
fn rfc_8040_3_1_a_server_tells_where_its_resources_are() {
    let site = Site::new();
    assert_eq!(site.get("/.well-known/host-meta").status, 200);
    let root = site.get("/restconf").content;
    assert_eq!(root["ietf-restconf:restconf"]["yang-library-version"], "2019-01-04");
    let operations = site.get("/restconf/operations").content;
    assert!(operations["ietf-restconf:operations"]["zarnet-policy:save"].is_array());
    let library = site.get("/restconf/data/ietf-yang-library:yang-library").content;
    let modules = &library["ietf-yang-library:yang-library"]["module-set"][0]["module"];
    assert!(modules.as_array().unwrap().iter().any(|m| m["name"] == "ietf-nat"));
}

#[test]
fn only_who_knows_the_token_and_asks_this_very_host_is_answered() {
    let site = Site::new();
    let request = |host: &str, token: Option<&str>, origin: Option<&str>| {
        let mut request = Request::builder().uri("/restconf/data").header(header::HOST, host);
        if let Some(token) = token {
            request = request.header(header::AUTHORIZATION, token);
        }
        if let Some(origin) = origin {
            request = request.header(header::ORIGIN, origin);
        }
        site.send(request.body(Full::default()).unwrap()).status
    };
    let right = Some("Bearer token");
    assert_eq!(request("localhost:8443", right, None), 200);
    assert_eq!(request("127.0.0.1:8443", right, None), 200);
    assert_eq!(request("[::1]:8443", right, Some("https://[::1]:8443")), 200);
    assert_eq!(request("localhost:8443", None, None), 401);
    assert_eq!(request("localhost:8443", Some("Bearer tokem"), None), 401);
    assert_eq!(request("localhost:8443", Some("Basic dG9rZW4="), None), 401);
    // a name that leads here is not yet this host, and another site is not this one
    assert_eq!(request("rebound.example:8443", right, None), 403);
    assert_eq!(request("localhost:8443", right, Some("https://other.example")), 403);
}

#[test]
fn rfc_8040_3_5_data_is_found_by_its_path() {
    let site = Site::new();
    let whole = site.get("/restconf/data").content;
    assert!(whole["ietf-restconf:data"]["ietf-nat:nat"].is_object());
    let entry = site.get("/restconf/data/ietf-interfaces:interfaces/interface=floor").content;
    assert_eq!(entry["ietf-interfaces:interface"][0]["name"], "floor");
    let leaf = site.get("/restconf/data/ietf-nat:nat/instances/instance=2/name").content;
    assert_eq!(leaf, json!({ "ietf-nat:name": "edge" }));
    for missing in [
        "/restconf/data/ietf-nat:nat/instances/instance=7",
        "/restconf/data/ietf-nat:nat/nothing",
        "/restconf/data/nat",
        "/restconf/data/ietf-nat:nat/instances/instance=%zz",
        "/restconf/ds/ietf-datastores:candidate",
        "/elsewhere",
    ] {
        assert_eq!(site.get(missing).status, 404, "{missing}");
    }
}

#[test]
fn rfc_8040_4_8_content_and_depth_say_how_much_is_wanted() {
    let site = Site::new();
    let instance = "/restconf/data/ietf-nat:nat/instances/instance=2";
    let of = |query: &str| {
        site.get(&format!("{instance}{query}")).content["ietf-nat:instance"][0].clone()
    };
    assert!(of("")["statistics"].is_object() && of("")["policy"].is_array());
    assert!(of("?content=config")["statistics"].is_null());
    assert!(of("?content=nonconfig")["policy"].is_null());
    assert!(of("?content=nonconfig")["statistics"].is_object());
    assert_eq!(of("?depth=1"), json!({}));
    assert_eq!(of("?depth=2")["policy"][0], json!({}));
    for wrong in ["?depth=0", "?depth=x", "?content=some", "?fields=a"] {
        assert_eq!(site.get(&format!("{instance}{wrong}")).status, 400, "{wrong}");
    }
}

#[test]
fn rfc_8527_each_store_has_its_own_data() {
    let site = Site::new();
    let edited =
        site.ask(&format!("PATCH {TABLE}"), &[DATA], &json!({ "ietf-nat:mapping-table": {} }));
    // there is no table yet that could be merged into
    assert_eq!((edited.status, edited.error()), (409, "data-missing"));
    let made = json!({ "ietf-nat:mapping-table": { "mapping-entry": [forward(1, 8080)] } });
    assert_eq!(site.ask(&format!("PUT {TABLE}"), &[DATA], &made).status, 201);
    let has = |store: &str| {
        let path = format!("/restconf/ds/ietf-datastores:{store}/ietf-nat:nat");
        site.get(&path)
            .content
            .pointer("/ietf-nat:nat/instances/instance/0/mapping-table")
            .is_some()
    };
    assert!(has("running") && has("operational") && !has("startup"));
    assert_eq!(
        site.ask("POST /restconf/operations/zarnet-policy:save", &[], &Value::Null).status,
        204
    );
    assert!(has("startup"));
    let wrong =
        site.ask("DELETE /restconf/ds/ietf-datastores:startup/ietf-nat:nat", &[], &Value::Null);
    assert_eq!(wrong.status, 405);
}

#[test]
fn rfc_8040_3_4_1_an_edit_is_conditional_on_the_version_that_was_read() {
    let site = Site::new();
    let made = json!({ "ietf-nat:mapping-table": { "mapping-entry": [forward(1, 8080)] } });
    let read = site.get("/restconf/data?content=config");
    let tag = read.tag();
    let unchanged = site.ask(
        "GET /restconf/data?content=config",
        &[("if-none-match", tag.as_str())],
        &Value::Null,
    );
    assert_eq!(unchanged.status, 304);
    let put = |tag: &str| site.ask(&format!("PUT {TABLE}"), &[DATA, ("if-match", tag)], &made);
    assert_eq!(put("\"other\"").status, 412);
    let first = put(&tag);
    assert_eq!(first.status, 201);
    assert_ne!(first.tag(), tag);
    assert_eq!(put(&tag).status, 412);
    assert_eq!(put(&first.tag()).status, 204);
}

#[test]
fn rfc_8040_4_4_an_entry_is_made_once() {
    let site = Site::new();
    let path = "POST /restconf/data/ietf-nat:nat/instances/instance=2/mapping-table";
    let entry = json!({ "ietf-nat:mapping-entry": [forward(5, 8080)] });
    let made = site.ask(path, &[DATA], &entry);
    assert_eq!(made.status, 201);
    let location = made.headers[header::LOCATION].to_str().unwrap().to_owned();
    assert!(location.ends_with("/mapping-table/mapping-entry=5"), "{location}");
    let again = site.ask(path, &[DATA], &entry);
    assert_eq!((again.status, again.error()), (409, "data-exists"));
    let gone = site.ask(&format!("DELETE {TABLE}/mapping-entry=5"), &[], &Value::Null);
    assert_eq!(gone.status, 204);
    let gone = site.ask(&format!("DELETE {TABLE}/mapping-entry=5"), &[], &Value::Null);
    assert_eq!((gone.status, gone.error()), (409, "data-missing"));
}

#[test]
fn rfc_8072_of_a_list_of_edits_all_are_made_or_none() {
    let site = Site::new();
    let patch = |edits: Value| {
        let content = json!({ "ietf-yang-patch:yang-patch": { "patch-id": "p", "edit": edits } });
        site.ask("PATCH /restconf/data", &[PATCH], &content)
    };
    let target = |index: u32| {
        format!("/ietf-nat:nat/instances/instance=2/mapping-table/mapping-entry={index}")
    };
    let create = |index: u32, port: u16| {
        json!({
            "edit-id": format!("e{index}"), "operation": "create", "target": target(index),
            "value": { "ietf-nat:mapping-entry": [forward(index, port)] },
        })
    };
    let before = site.get("/restconf/data?content=config");
    let delete = json!({ "edit-id": "bad", "operation": "delete", "target": target(9) });
    let refused = patch(json!([create(1, 8080), delete]));
    assert_eq!(refused.status, 409);
    let status = &refused.content["ietf-yang-patch:yang-patch-status"];
    assert_eq!(status["edit-status"]["edit"][0]["edit-id"], "bad");
    assert_eq!(site.get("/restconf/data?content=config").content, before.content);
    // an edit that leads to no plan is refused as well
    let twice = patch(json!([create(1, 8080), create(2, 8080)]));
    assert_eq!(twice.status, 400);
    assert_eq!(site.get("/restconf/data?content=config").tag(), before.tag());
    let made = patch(json!([create(1, 8080), create(2, 8081)]));
    assert_eq!(made.status, 200);
    assert_eq!(made.content["ietf-yang-patch:yang-patch-status"]["ok"], json!([null]));
}

#[test]
fn what_is_not_a_request_of_the_standard_is_refused_with_its_reason() {
    let site = Site::new();
    let put = |content: &str, kind: &str| {
        let request = Request::builder()
            .method("PUT")
            .uri(TABLE)
            .header(header::HOST, "localhost")
            .header(header::AUTHORIZATION, "Bearer token")
            .header(header::CONTENT_TYPE, kind)
            .body(Full::new(Bytes::copy_from_slice(content.as_bytes())))
            .unwrap();
        let told = site.send(request);
        (told.status, told.error().to_owned())
    };
    let data = "application/yang-data+json";
    let wrong = |status: u16, tag: &str| (status, tag.to_owned());
    assert_eq!(put("{}", "text/plain"), wrong(415, "invalid-value"));
    assert_eq!(put("{", data), wrong(400, "malformed-message"));
    assert_eq!(put("{}", data), wrong(400, "malformed-message"));
    assert_eq!(put("{\"ietf-nat:nat\": {}}", data), wrong(400, "malformed-message"));
    assert_eq!(put(&"[".repeat(100_000), data), wrong(400, "malformed-message"));
    let twice = "{\"ietf-nat:mapping-table\": {}, \"ietf-nat:mapping-table\": {}}";
    assert_eq!(put(twice, data), wrong(400, "malformed-message"));
    let state = "{\"ietf-nat:mapping-table\": {\"mapping-entry\": [{\"index\": 1, \"x\": 1}]}}";
    assert_eq!(put(state, data), wrong(400, "invalid-value"));
    let post = site.ask("POST /restconf/operations/zarnet-policy:nothing", &[], &Value::Null);
    assert_eq!(post.status, 404);
    let options = site.ask("OPTIONS /restconf/data", &[], &Value::Null);
    assert!(options.headers["accept-patch"].to_str().unwrap().contains("yang-patch"));
    let trace = site.ask("TRACE /restconf/data", &[], &Value::Null);
    assert_eq!(trace.status, 405);
    assert!(trace.headers.contains_key(header::ALLOW));
    let head = site.ask("HEAD /restconf/data", &[], &Value::Null);
    assert_eq!((head.status, head.content), (200, Value::Null));
    let xml =
        site.ask("GET /restconf/data", &[("accept", "application/yang-data+xml")], &Value::Null);
    assert_eq!(xml.status, 406);
}

#[test]
fn an_edit_waits_to_be_confirmed_and_nobody_else_edits_meanwhile() {
    let site = Site::new();
    let made = json!({ "ietf-nat:mapping-table": { "mapping-entry": [forward(1, 8080)] } });
    let put = |query: &str| site.ask(&format!("PUT {TABLE}{query}"), &[DATA], &made);
    assert_eq!(put("?confirm-within=0").status, 400);
    assert_eq!(put("?confirm-within=60").status, 201);
    let edge = site.get("/restconf/data/zarnet-policy:edge?content=nonconfig").content;
    assert!(edge["zarnet-policy:edge"]["unconfirmed-until"].is_string());
    let other = put("");
    assert_eq!((other.status, other.error()), (409, "in-use"));
    let operate = |name: &str| {
        site.ask(&format!("POST /restconf/operations/zarnet-policy:{name}"), &[], &Value::Null)
            .status
    };
    assert_eq!(operate("take-back"), 204);
    assert_eq!(site.get(TABLE).status, 404);
    assert_eq!(operate("confirm"), 500);
    assert_eq!(put("?confirm-within=60").status, 201);
    assert_eq!(operate("confirm"), 204);
    assert_eq!(site.get(TABLE).status, 200);
    // what is not saved is lost by a restart
    assert_eq!(operate("restart"), 204);
    assert_eq!(site.get(TABLE).status, 404);
}
