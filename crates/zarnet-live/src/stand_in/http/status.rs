//! Errors as RFC 8040 §7 has them.

use hyper::StatusCode;
use hyper::header::{self, HeaderValue};
use serde_json::{Value, json};

use super::body::{self, Answer};
use crate::stand_in::datastore::Refused;

/// An answer that refuses.
#[derive(Debug)]
pub(super) struct Refusal {
    status: StatusCode,
    errors: Vec<Refused>,
    /// Methods that would be allowed.
    allow: Option<&'static str>,
}

impl Refusal {
    pub(super) fn new(status: StatusCode, tag: &'static str, message: &str) -> Self {
        Self { status, errors: vec![Refused::new(tag, message)], allow: None }
    }

    pub(super) fn with_allowed(self, methods: &'static str) -> Self {
        Self { allow: Some(methods), ..self }
    }

    pub(super) fn errors(errors: Vec<Refused>) -> Self {
        let status = errors.first().map_or(StatusCode::BAD_REQUEST, |e| status_of(e.tag));
        Self { status, errors, allow: None }
    }

    pub(super) fn answer(self) -> Answer {
        let mut answer = body::json(self.status, &errors(&self.errors));
        if let Some(allow) = self.allow {
            answer.headers_mut().insert(header::ALLOW, HeaderValue::from_static(allow));
        }
        if self.status == StatusCode::UNAUTHORIZED {
            answer
                .headers_mut()
                .insert(header::WWW_AUTHENTICATE, HeaderValue::from_static("Bearer"));
        }
        answer
    }
}

impl From<Refused> for Refusal {
    fn from(refused: Refused) -> Self {
        Self::errors(vec![refused])
    }
}

/// Errors as data.
pub(super) fn errors(list: &[Refused]) -> Value {
    json!({ "ietf-restconf:errors": error_list(list) })
}

/// The list of errors, as a patch status has it too (RFC 8072 §2.3).
pub(super) fn error_list(list: &[Refused]) -> Value {
    let one = |e: &Refused| {
        let mut error = json!({
            "error-type": "application",
            "error-tag": e.tag,
            "error-message": e.message,
        });
        if let Some(path) = &e.path {
            error["error-path"] = json!(path);
        }
        error
    };
    json!({ "error": list.iter().map(one).collect::<Vec<_>>() })
}

/// The status that belongs to a tag (RFC 8040 §7, table).
fn status_of(tag: &str) -> StatusCode {
    match tag {
        "in-use" | "data-exists" | "data-missing" | "lock-denied" | "resource-denied" => {
            StatusCode::CONFLICT
        }
        "access-denied" => StatusCode::FORBIDDEN,
        "operation-not-supported" => StatusCode::METHOD_NOT_ALLOWED,
        "operation-failed" => StatusCode::INTERNAL_SERVER_ERROR,
        "too-big" => StatusCode::PAYLOAD_TOO_LARGE,
        _ => StatusCode::BAD_REQUEST,
    }
}

pub(super) fn unauthorized() -> Refusal {
    Refusal::new(StatusCode::UNAUTHORIZED, "access-denied", "a token is needed, and it is another")
}

pub(super) fn nothing_there(path: &str) -> Refusal {
    let errors = vec![Refused::new("invalid-value", "there is nothing").at(path)];
    Refusal { status: StatusCode::NOT_FOUND, errors, allow: None }
}

pub(super) fn unreadable(error: &(dyn std::error::Error + Send + Sync + 'static)) -> Refusal {
    match error.is::<http_body_util::LengthLimitError>() {
        true => Refusal::new(StatusCode::PAYLOAD_TOO_LARGE, "too-big", "the request is too long"),
        false => Refusal::new(StatusCode::BAD_REQUEST, "malformed-message", "it came in part"),
    }
}

pub(super) fn precondition_failed(now: &str) -> Refusal {
    let message = format!("the configuration was changed meanwhile: its version is {now}");
    let errors = vec![Refused::new("operation-failed", message)];
    Refusal { status: StatusCode::PRECONDITION_FAILED, errors, allow: None }
}
