//! Edits (RFC 8040 §4.4 to §4.7, RFC 8072) and operations.

use std::time::Duration;

use hyper::header::{self, HeaderValue};
use hyper::{Method, StatusCode};
use serde_json::{Value, json};
use zarnet_formats::data_model::{DataPath, Edit, Kind, Operation, Position, Schema, parse};
use zarnet_formats::ietf_nat::ModuleForm;

use super::body::{self, Answer};
use super::route::{Place, Store};
use super::status::{self, Refusal};
use super::{Asked, Context, library};
use crate::protocol::{CONFIRM_WITHIN, POLICY_MODULE, YANG_DATA, YANG_PATCH};
use crate::stand_in::datastore::Refused;
use crate::stand_in::estate::Estate;

/// A change as it was asked for.
struct Change {
    edits: Vec<Edit>,
    /// Names of the edits of a patch.
    names: Option<(String, Vec<String>)>,
    /// Whether something new comes to be.
    creates: Option<DataPath>,
}

pub(super) async fn write(
    context: &Context,
    method: &Method,
    place: Place,
    asked: Asked<'_>,
    content: &[u8],
) -> Result<Answer, Refusal> {
    if !matches!(place.store, Store::Unified | Store::Running) || library::is_own(&place.asked) {
        let message = "only the running configuration can be edited";
        return Err(Refusal::new(
            StatusCode::METHOD_NOT_ALLOWED,
            "operation-not-supported",
            message,
        ));
    }
    let within = confirm_within(asked.query)?;
    let change = change(method, &place, asked, content)?;
    let (device, expected) = (context.device, asked.header(header::IF_MATCH).map(str::to_owned));
    let must_exist = (*method == Method::PATCH && change.names.is_none()
        || *method == Method::DELETE)
        .then(|| place.path.clone());
    let Change { edits, names, creates } = change;
    let question = move |estate: &mut Estate<'_>| {
        let datastore = &estate.device(device).datastore;
        let tag = datastore.tag();
        if expected.is_some_and(|e| e != "*" && !e.split(',').any(|t| t.trim() == tag)) {
            return Err((None, Err(tag)));
        }
        if within.is_some() && datastore.form == ModuleForm::Standard {
            let message = format!("`{CONFIRM_WITHIN}` is no parameter here");
            return Err((None, Ok(vec![Refused::new("invalid-value", message)])));
        }
        let missing = must_exist.filter(|p| p.find(&datastore.running).is_none());
        if let Some(path) = missing {
            let refused = Refused::new("data-missing", "there is nothing").at(path.to_string());
            return Err((None, Ok(vec![refused])));
        }
        let made = creates.filter(|p| p.find(&datastore.running).is_none());
        estate.edit(device, &edits, within).map_err(|(at, refused)| (at, Ok(refused)))?;
        Ok((estate.device(device).datastore.tag(), made))
    };
    let done = context.engine.ask(question).await.ok_or_else(library::failed)?;
    let (tag, made) = match done {
        Ok(done) => done,
        Err((_, Err(now))) => return Err(status::precondition_failed(&now)),
        Err((at, Ok(refused))) => return refused_edits(names, at, refused),
    };
    let mut answer = match (names, &made) {
        (Some((id, _)), _) => {
            let content = json!({ "ietf-yang-patch:yang-patch-status": {
                "patch-id": id, "ok": [null],
            } });
            body::json(StatusCode::OK, &content)
        }
        (None, Some(_)) => body::empty(StatusCode::CREATED),
        (None, None) => body::empty(StatusCode::NO_CONTENT),
    };
    let location = made.map(|path| format!("https://{}/restconf/data{path}", context.address));
    let headers = answer.headers_mut();
    for (name, text) in [(header::ETAG, Some(tag)), (header::LOCATION, location)] {
        if let Some(value) = text.and_then(|t| HeaderValue::from_str(&t).ok()) {
            headers.insert(name, value);
        }
    }
    Ok(answer)
}

/// Errors of an edit; of a patch, with the edit that they are of (RFC 8072 §2.3).
fn refused_edits(
    names: Option<(String, Vec<String>)>,
    at: Option<usize>,
    refused: Vec<Refused>,
) -> Result<Answer, Refusal> {
    let Some((id, edits)) = names else { return Err(Refusal::errors(refused)) };
    let mut content = json!({ "patch-id": id });
    match at.and_then(|i| edits.get(i)) {
        Some(name) => {
            let errors = status::error_list(&refused);
            content["edit-status"] = json!({ "edit": [{ "edit-id": name, "errors": errors }] });
        }
        None => content["errors"] = status::error_list(&refused),
    }
    let status = Refusal::errors(refused).answer().status();
    Ok(body::json(status, &json!({ "ietf-yang-patch:yang-patch-status": content })))
}

fn confirm_within(query: Option<&str>) -> Result<Option<Duration>, Refusal> {
    let mut within = None;
    for pair in query.unwrap_or_default().split('&').filter(|p| !p.is_empty()) {
        let (name, value) = pair.split_once('=').unwrap_or((pair, ""));
        let seconds = value.parse().ok().filter(|s| (1..=3_600).contains(s));
        match (name == CONFIRM_WITHIN, seconds) {
            (true, Some(seconds)) => within = Some(Duration::from_secs(seconds)),
            (true, None) => {
                let message = format!("`{CONFIRM_WITHIN}` is a number of seconds from 1 to 3600");
                return Err(Refused::new("invalid-value", message).into());
            }
            (false, _) => {
                let message = format!("`{name}` is no parameter here");
                return Err(Refused::new("invalid-value", message).into());
            }
        }
    }
    Ok(within)
}

fn malformed(message: impl Into<String>) -> Refusal {
    Refused::new("malformed-message", message).into()
}

fn change(
    method: &Method,
    place: &Place,
    asked: Asked<'_>,
    content: &[u8],
) -> Result<Change, Refusal> {
    let target = place.path.clone();
    if *method == Method::DELETE {
        if target.steps.is_empty() {
            return Err(Refused::new("invalid-value", "the whole cannot be deleted").into());
        }
        let edit = edit(Operation::Delete, target, None);
        return Ok(Change { edits: vec![edit], names: None, creates: None });
    }
    let kind = asked.header(header::CONTENT_TYPE).unwrap_or(YANG_DATA);
    let is_patch = kind.starts_with(YANG_PATCH);
    if !is_patch && !kind.starts_with(YANG_DATA) && !kind.starts_with("application/json") {
        let message = format!("the device takes {YANG_DATA} and {YANG_PATCH}");
        return Err(Refusal::new(StatusCode::UNSUPPORTED_MEDIA_TYPE, "invalid-value", &message));
    }
    let text = std::str::from_utf8(content).map_err(|_| malformed("it is not UTF-8"))?;
    let document = parse(text).map_err(|fault| malformed(fault.kind.to_string()))?;
    if is_patch && *method == Method::PATCH {
        return patch(&document, &place.asked);
    }
    if *method == Method::POST {
        let (name, value) = only_member(&document)?;
        let child = child_of(&target, name)?;
        let (target, value) = entry_of(child, value)?;
        let creates = Some(target.clone());
        let edit = edit(Operation::Create, target, Some(value));
        return Ok(Change { edits: vec![edit], names: None, creates });
    }
    let operation = if *method == Method::PUT { Operation::Replace } else { Operation::Merge };
    let value = value_for(&target, &document)?;
    let creates = (*method == Method::PUT).then(|| target.clone());
    let edit = edit(operation, target, Some(value));
    Ok(Change { edits: vec![edit], names: None, creates })
}

fn edit(operation: Operation, target: DataPath, value: Option<Value>) -> Edit {
    Edit { operation, target, value, position: Position::Last }
}

fn only_member(document: &Value) -> Result<(&String, &Value), Refusal> {
    let members = document.as_object().ok_or_else(|| malformed("it is no object"))?;
    let mut all = members.iter();
    match (all.next(), all.next()) {
        (Some(one), None) => Ok(one),
        _ => Err(malformed("it must have one member: what is at the place")),
    }
}

/// What is to be at a place: the content names it once more (RFC 8040 §4.5).
fn value_for(target: &DataPath, document: &Value) -> Result<Value, Refusal> {
    let (name, value) = only_member(document)?;
    let Some(last) = target.steps.last() else {
        return match name.as_str() {
            "ietf-restconf:data" => Ok(value.clone()),
            _ => Err(malformed("the whole is called ietf-restconf:data")),
        };
    };
    let bare = |n: &str| n.rsplit(':').next().unwrap_or(n).to_owned();
    let module = target.node().map_or("", |n| Schema::get().module_of(n));
    let fits =
        bare(name) == bare(&last.member) && name.split_once(':').is_none_or(|(m, _)| m == module);
    if !fits {
        return Err(malformed(format!("it has `{name}`, and the place is {target}")));
    }
    match (last.keys.is_empty(), value) {
        (true, value) => Ok(value.clone()),
        (false, Value::Array(entries)) if entries.len() == 1 => Ok(entries[0].clone()),
        // that of a leaf-list, or an entry alone
        (false, value) => Ok(value.clone()),
    }
}

fn child_of(above: &DataPath, name: &str) -> Result<DataPath, Refusal> {
    let text = match above.steps.is_empty() {
        true => format!("/{name}"),
        false => format!("{above}/{name}"),
    };
    DataPath::parse(&text).map_err(|e| Refused::new("unknown-element", e.to_string()).into())
}

/// The place of an entry by the keys that it has; anything else is where it is.
fn entry_of(place: DataPath, value: &Value) -> Result<(DataPath, Value), Refusal> {
    let schema = Schema::get();
    let keys = match place.node().map(|n| &schema.node(n).kind) {
        Some(Kind::List(keys)) => keys,
        _ => return Ok((place, value.clone())),
    };
    let entry = match value {
        Value::Array(entries) if entries.len() == 1 => &entries[0],
        Value::Array(_) => return Err(malformed("one entry at a time")),
        value => value,
    };
    let key = |k: &&str| match entry.get(*k) {
        Some(Value::String(text)) => Ok(text.clone()),
        Some(other) => Ok(other.to_string()),
        None => Err(Refused::new("missing-attribute", format!("the entry has no `{k}`"))),
    };
    let keys = keys.iter().map(key).collect::<Result<Vec<_>, _>>()?;
    let (above, last) = place.split().ok_or_else(|| malformed("it is the whole"))?;
    Ok((above.with(&last.member, keys), entry.clone()))
}

/// A list of edits (RFC 8072 §2.2); targets are below the place of the request.
fn patch(document: &Value, base: &str) -> Result<Change, Refusal> {
    let patch = document
        .get("ietf-yang-patch:yang-patch")
        .ok_or_else(|| malformed("there is no `ietf-yang-patch:yang-patch`"))?;
    let text = |v: &Value, member: &str| v.get(member).and_then(Value::as_str).map(str::to_owned);
    let id = text(patch, "patch-id").ok_or_else(|| malformed("there is no `patch-id`"))?;
    let base = base.trim_matches('/');
    let at = |target: &str| {
        let below = target.trim_start_matches('/');
        let whole = [base, below].iter().filter(|p| !p.is_empty()).copied().collect::<Vec<_>>();
        DataPath::parse(&whole.join("/"))
            .map_err(|e| Refusal::from(Refused::new("unknown-element", e.to_string())))
    };
    let (mut edits, mut names) = (Vec::new(), Vec::new());
    for one in patch.get("edit").and_then(Value::as_array).into_iter().flatten() {
        let name = text(one, "edit-id").ok_or_else(|| malformed("an edit has no `edit-id`"))?;
        let operation = text(one, "operation").unwrap_or_default();
        let known = Operation::ALL.iter().find(|o| o.0 == operation);
        let operation = known.ok_or_else(|| malformed(format!("`{operation}` is no operation")))?.1;
        let target = at(&text(one, "target").unwrap_or_default())?;
        let value = one.get("value").map(|v| value_for(&target, v)).transpose()?;
        let point = || -> Result<Vec<String>, Refusal> {
            let point = text(one, "point").ok_or_else(|| malformed("an edit has no `point`"))?;
            let path = at(&point)?;
            Ok(path.steps.last().map(|s| s.keys.clone()).unwrap_or_default())
        };
        let position = match text(one, "where").as_deref() {
            Some("first") => Position::First,
            Some("before") => Position::Before(point()?),
            Some("after") => Position::After(point()?),
            Some("last") | None => Position::Last,
            Some(other) => return Err(malformed(format!("`{other}` is no place in a list"))),
        };
        names.push(name);
        edits.push(Edit { operation, target, value, position });
    }
    Ok(Change { edits, names: Some((id, names)), creates: None })
}

/// Operations of our module.
pub(super) async fn operation(context: &Context, name: &str) -> Result<Answer, Refusal> {
    let device = context.device;
    let unknown = || {
        Refusal::new(StatusCode::NOT_FOUND, "operation-not-supported", "there is no such operation")
    };
    let name = name.strip_prefix(&format!("{POLICY_MODULE}:")).ok_or_else(unknown)?.to_owned();
    if !["save", "confirm", "take-back", "restart"].contains(&name.as_str()) {
        return Err(unknown());
    }
    let question = move |estate: &mut Estate<'_>| {
        if estate.device(device).datastore.form == ModuleForm::Standard {
            return None;
        }
        Some(match name.as_str() {
            "save" => {
                estate.save(device);
                Ok(())
            }
            "confirm" => estate.confirm(device),
            "take-back" => estate.take_back(device),
            _ => {
                estate.restart(device);
                Ok(())
            }
        })
    };
    match context.engine.ask(question).await.ok_or_else(library::failed)? {
        None => Err(unknown()),
        Some(done) => done
            .map(|()| body::empty(StatusCode::NO_CONTENT))
            .map_err(|refused| Refusal::errors(vec![refused])),
    }
}
