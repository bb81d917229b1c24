//! What the device can: modules (RFC 8525), capabilities and streams (RFC 8040 §9), operations.

use hyper::StatusCode;
use serde_json::{Map, Value, json};
use zarnet_formats::data_model::Schema;
use zarnet_formats::ietf_nat::ModuleForm;

use super::body::{self, Answer};
use super::status::Refusal;
use super::{Context, status};
use crate::protocol::{CONFIRM_CAPABILITY, POLICY_MODULE, ROOT, STREAM};

/// The revision of ietf-yang-library that is spoken.
const LIBRARY: &str = "2019-01-04";

pub(super) fn host_meta() -> Answer {
    let text = format!(
        "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<XRD \
         xmlns=\"http://docs.oasis-open.org/ns/xri/xrd-1.0\">\n  <Link rel=\"restconf\" \
         href=\"{ROOT}\"/>\n</XRD>\n"
    );
    body::text(StatusCode::OK, "application/xrd+xml", text)
}

pub(super) fn root() -> Answer {
    let root = json!({ "ietf-restconf:restconf": {
        "data": {}, "operations": {}, "yang-library-version": LIBRARY,
    } });
    body::json(StatusCode::OK, &root)
}

pub(super) fn version() -> Answer {
    body::json(StatusCode::OK, &json!({ "ietf-restconf:yang-library-version": LIBRARY }))
}

pub(super) async fn operations(context: &Context) -> Result<Answer, Refusal> {
    let form = form(context).await?;
    let mut list = Map::new();
    if form == ModuleForm::WithPolicy {
        for name in ["save", "confirm", "take-back", "restart"] {
            list.insert(format!("{POLICY_MODULE}:{name}"), json!([null]));
        }
    }
    Ok(body::json(StatusCode::OK, &json!({ "ietf-restconf:operations": list })))
}

async fn form(context: &Context) -> Result<ModuleForm, Refusal> {
    let device = context.device;
    let form = context.engine.ask(move |estate| estate.device(device).datastore.form).await;
    form.ok_or_else(failed)
}

/// The device cannot answer this request; others it may.
pub(super) fn failed() -> Refusal {
    let message = "the device failed at this request";
    Refusal::new(StatusCode::INTERNAL_SERVER_ERROR, "operation-failed", message)
}

/// Whether data is told by the server of itself.
pub(super) fn is_own(path: &str) -> bool {
    let path = path.trim_start_matches('/');
    path.starts_with("ietf-yang-library:") || path.starts_with("ietf-restconf-monitoring:")
}

/// Data that the server tells of itself.
pub(super) async fn own(context: &Context, path: &str) -> Result<Answer, Refusal> {
    let form = form(context).await?;
    let path = path.trim_matches('/');
    let mut steps = path.split('/');
    let top = steps.next().unwrap_or_default();
    let whole = match top {
        "ietf-yang-library:yang-library" => library(form),
        "ietf-restconf-monitoring:restconf-state" => monitoring(context, form),
        _ => return Err(status::nothing_there(&format!("/{path}"))),
    };
    let (mut name, mut at) = (top, &whole);
    for step in steps {
        at = at.get(step).ok_or_else(|| status::nothing_there(&format!("/{path}")))?;
        name = step;
    }
    let module = top.split(':').next().unwrap_or_default();
    let bare = name.rsplit(':').next().unwrap_or(name);
    Ok(body::json(StatusCode::OK, &json!({ format!("{module}:{bare}"): at })))
}

/// The modules, and which store has which.
fn library(form: ModuleForm) -> Value {
    let modules = Schema::get()
        .modules()
        .iter()
        .filter(|m| form == ModuleForm::WithPolicy || m.name != POLICY_MODULE);
    let is_types = |name: &str| {
        ["ietf-inet-types", "ietf-yang-types", "ietf-packet-fields", "ietf-ethertypes"]
            .contains(&name)
    };
    let (mut list, mut imported) = (Vec::new(), Vec::new());
    for module in modules {
        let entry = json!({
            "name": module.name,
            "revision": module.revision,
            "namespace": module.namespace,
        });
        if is_types(module.name) { imported.push(entry) } else { list.push(entry) }
    }
    let store = |name: &str| json!({ "name": format!("ietf-datastores:{name}"), "schema": "all" });
    json!({
        "module-set": [{ "name": "all", "module": list, "import-only-module": imported }],
        "schema": [{ "name": "all", "module-set": ["all"] }],
        "datastore": [store("running"), store("startup"), store("operational")],
        "content-id": if form == ModuleForm::WithPolicy { "with-policy" } else { "standard" },
    })
}

fn monitoring(context: &Context, form: ModuleForm) -> Value {
    let mut capabilities = vec![
        "urn:ietf:params:restconf:capability:defaults:1.0?basic-mode=explicit".to_owned(),
        "urn:ietf:params:restconf:capability:depth:1.0".to_owned(),
        "urn:ietf:params:restconf:capability:yang-patch:1.0".to_owned(),
    ];
    if form == ModuleForm::WithPolicy {
        capabilities.push(CONFIRM_CAPABILITY.into());
    }
    json!({
        "capabilities": { "capability": capabilities },
        "streams": { "stream": [{
            "name": STREAM,
            "description": "changes of the configuration, and thresholds that were passed",
            "replay-support": false,
            "access": [{
                "encoding": "json",
                "location": format!("https://{}/streams/{STREAM}", context.address),
            }],
        }] },
    })
}
