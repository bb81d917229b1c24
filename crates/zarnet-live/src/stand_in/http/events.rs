//! What a device tells of itself, as it happens (RFC 8040 §6.3).

use std::time::Duration;

use hyper::Response;
use hyper::body::Bytes;
use hyper::header::{self, HeaderValue};
use serde_json::{Value, json};
use tokio::sync::broadcast::error::RecvError;
use tokio::sync::mpsc;

use super::Context;
use super::body::{Answer, received};
use crate::protocol::EVENT_STREAM;

/// A comment is sent as often, so that both sides see that the other is there.
const SIGN_OF_LIFE: Duration = Duration::from_secs(15);

pub(super) fn stream(context: &Context) -> Answer {
    let (sender, receiver) = mpsc::channel(64);
    let (mut events, device) = (context.engine.events.subscribe(), context.device);
    tokio::spawn(async move {
        if sender.send(Ok(Bytes::from_static(b": here\n\n"))).await.is_err() {
            return;
        }
        loop {
            let text = match tokio::time::timeout(SIGN_OF_LIFE, events.recv()).await {
                Err(_) => ": here\n\n".to_owned(),
                Ok(Ok(event)) if event.device == device => written(&event.at, &event.content),
                Ok(Ok(_)) => continue,
                // whoever is too slow is told that something is missing
                Ok(Err(RecvError::Lagged(n))) => format!(": {n} events are missing\n\n"),
                Ok(Err(RecvError::Closed)) => return,
            };
            if sender.send(Ok(text.into())).await.is_err() {
                return;
            }
        }
    });
    let mut answer = Response::new(received(receiver));
    let headers = answer.headers_mut();
    headers.insert(header::CONTENT_TYPE, HeaderValue::from_static(EVENT_STREAM));
    headers.insert(header::CACHE_CONTROL, HeaderValue::from_static("no-cache"));
    answer
}

/// An event as the stream has it: one line of data.
fn written(at: &str, content: &Value) -> String {
    let mut notification = json!({ "eventTime": at });
    if let (Some(own), Some(more)) = (notification.as_object_mut(), content.as_object()) {
        own.extend(more.clone());
    }
    format!("data: {}\n\n", json!({ "ietf-restconf:notification": notification }))
}
