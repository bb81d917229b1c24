//! Requests to a device (RFC 8040).
//!
//! - `route`: what a request is about. `read`: data that is asked for. `write`: edits and
//!   operations. `library`: what the device can. `events`: what it tells of itself.
//! - `body`: answers, whole and as streams. `status`: errors as the standard has them.

mod body;
mod events;
mod library;
mod read;
mod route;
mod status;
#[cfg(test)]
mod tests;
mod write;

use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use http_body_util::{BodyExt, Limited};
use hyper::body::{Body, Bytes};
use hyper::header::{self, HeaderMap};
use hyper::{Method, Request, Response};
use zarnet_core::plan::DeviceId;

pub(super) use body::Answer;
use route::Route;
use status::Refusal;

use super::datastore::Refused;
use super::estate::Engine;
use super::misbehave::{Fault, Misbehave};

/// Octets of a request's body.
const BODY: usize = 32 << 20;
/// A request is read and answered within this.
const REQUEST_TIME: Duration = Duration::from_secs(30);

/// What is done afterwards is done this long after the connection has ended.
const AFTERWARDS: Duration = Duration::from_millis(150);

/// What requests to one device share.
#[derive(Clone)]
pub(super) struct Context {
    pub(super) engine: Engine,
    pub(super) device: DeviceId,
    pub(super) address: SocketAddr,
    pub(super) token: String,
    pub(super) misbehave: Arc<Misbehave>,
}

/// The connection is to end without an answer.
#[derive(Debug, thiserror::Error)]
#[error("the connection ends")]
pub(super) struct HangUp;

/// Answers a request, or misbehaves.
pub(super) async fn serve<B>(context: &Context, request: Request<B>) -> Result<Answer, HangUp>
where
    B: Body<Data = Bytes> + Send,
    B::Error: Into<Box<dyn std::error::Error + Send + Sync>>,
{
    let writes = !matches!(*request.method(), Method::GET | Method::HEAD | Method::OPTIONS);
    let fault = context.misbehave.next(writes);
    match fault {
        Some(Fault::Drop) => return Err(HangUp),
        Some(Fault::Silent) => {
            tokio::time::sleep(Duration::from_secs(3_600)).await;
            return Err(HangUp);
        }
        Some(Fault::Refuse) => {
            let refused = Refused::new("operation-failed", "the device refuses, on purpose");
            return Ok(Refusal::from(refused).answer());
        }
        Some(Fault::Conflict) => {
            let device = context.device;
            // somebody else changes something and takes it back: only the version tells
            context.engine.ask(move |estate| estate.touch(device)).await;
        }
        Some(Fault::Forget) => return Ok(body::empty(hyper::StatusCode::NO_CONTENT)),
        Some(Fault::Afterwards) => {
            made_afterwards(context.clone(), request).await;
            return Err(HangUp);
        }
        Some(Fault::Late) => tokio::time::sleep(context.misbehave.delay).await,
        _ => {}
    }
    let answered = tokio::time::timeout(REQUEST_TIME, answer(context, request)).await;
    let answer = match answered {
        Ok(Ok(answer)) => answer,
        Ok(Err(refusal)) => refusal.answer(),
        Err(_) => Refusal::new(hyper::StatusCode::REQUEST_TIMEOUT, "operation-failed", "too slow")
            .answer(),
    };
    match fault {
        Some(Fault::DropAfter) => Err(HangUp),
        Some(Fault::Restart) => {
            let device = context.device;
            context.engine.ask(move |estate| estate.restart(device)).await;
            Err(HangUp)
        }
        Some(Fault::Partial) => Ok(body::partial(answer)),
        Some(Fault::Wrong) => Ok(body::wrong()),
        Some(Fault::Endless) => Ok(body::endless()),
        _ => Ok(answer),
    }
}

/// Lets what is asked for be done when nobody waits for the answer any more.
async fn made_afterwards<B>(context: Context, request: Request<B>)
where
    B: Body<Data = Bytes> + Send,
    B::Error: Into<Box<dyn std::error::Error + Send + Sync>>,
{
    let (parts, content) = request.into_parts();
    let Ok(content) = Limited::new(content, BODY).collect().await else { return };
    let request = Request::from_parts(parts, http_body_util::Full::new(content.to_bytes()));
    tokio::spawn(async move {
        tokio::time::sleep(AFTERWARDS).await;
        // nobody hears it
        let _ = answer(&context, request).await;
    });
}

async fn answer<B>(context: &Context, request: Request<B>) -> Result<Answer, Refusal>
where
    B: Body<Data = Bytes> + Send,
    B::Error: Into<Box<dyn std::error::Error + Send + Sync>>,
{
    allowed(context, request.uri().host(), request.headers())?;
    let (parts, content) = request.into_parts();
    let route = Route::of(parts.uri.path())?;
    let query = parts.uri.query();
    let asked = Asked { headers: &parts.headers, query };
    let head = parts.method == Method::HEAD;
    let method = if head { Method::GET } else { parts.method };
    let answer = match (method, route) {
        (Method::OPTIONS, route) => Ok(route.options()),
        (Method::GET, Route::HostMeta) => Ok(library::host_meta()),
        (Method::GET, Route::Root) => Ok(library::root()),
        (Method::GET, Route::LibraryVersion) => Ok(library::version()),
        (Method::GET, Route::Operations) => library::operations(context).await,
        (Method::GET, Route::Events) => Ok(events::stream(context)),
        (Method::GET, Route::Data(place)) => read::read(context, place, asked).await,
        (Method::POST, Route::Operation(name)) => write::operation(context, &name).await,
        (
            method @ (Method::PUT | Method::PATCH | Method::POST | Method::DELETE),
            Route::Data(place),
        ) => {
            let collected = Limited::new(content, BODY).collect().await;
            let content = collected.map_err(|e| status::unreadable(&*e))?.to_bytes();
            write::write(context, &method, place, asked, &content).await
        }
        (_, route) => Err(route.not_allowed()),
    }?;
    Ok(if head { body::without_content(answer) } else { answer })
}

/// What a request asks besides its place.
#[derive(Clone, Copy)]
struct Asked<'r> {
    headers: &'r HeaderMap,
    query: Option<&'r str>,
}

impl<'r> Asked<'r> {
    fn header(self, name: header::HeaderName) -> Option<&'r str> {
        self.headers.get(name).and_then(|v| v.to_str().ok())
    }
}

/// Whether somebody who knows the token asks this very server: a page of another site that a
/// browser shows must not.
fn allowed(context: &Context, authority: Option<&str>, headers: &HeaderMap) -> Result<(), Refusal> {
    let text = |name| headers.get(name).and_then(|v: &header::HeaderValue| v.to_str().ok());
    let host = text(header::HOST).or(authority).unwrap_or_default();
    let bare = match host.rsplit_once(':') {
        Some((bare, port)) if port.bytes().all(|b| b.is_ascii_digit()) => bare,
        _ => host,
    };
    let own = context.address.ip().to_string();
    let bare = bare.trim_matches(['[', ']']);
    let is_own = |name: &str| ["localhost", "127.0.0.1", "::1"].contains(&name) || name == own;
    let of_others = text(header::ORIGIN).is_some_and(|origin| {
        let at = origin.split_once("://").map_or("", |o| o.1);
        at != host
    });
    if !is_own(bare) || of_others {
        return Err(Refusal::new(
            hyper::StatusCode::FORBIDDEN,
            "access-denied",
            "the request is for another host, or comes from another site",
        ));
    }
    let given = text(header::AUTHORIZATION).and_then(|a| a.strip_prefix("Bearer "));
    let right = given.is_some_and(|g| same(g.trim().as_bytes(), context.token.as_bytes()));
    if right { Ok(()) } else { Err(status::unauthorized()) }
}

/// Whether two secrets are the same, in a time that does not tell where they differ.
fn same(a: &[u8], b: &[u8]) -> bool {
    let digest = |octets: &[u8]| ring::digest::digest(&ring::digest::SHA256, octets);
    let (a, b) = (digest(a), digest(b));
    a.as_ref().iter().zip(b.as_ref()).fold(0, |d, (x, y)| d | (x ^ y)) == 0
}

/// Answers a request that is there as octets, head and body: what fuzzing does. `None` if they are
/// no request.
pub fn answer_octets(octets: &[u8]) -> Option<u16> {
    use std::sync::OnceLock;
    static DEVICE: OnceLock<(tokio::runtime::Runtime, Context)> = OnceLock::new();
    let (runtime, context) = DEVICE.get_or_init(|| {
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build();
        (runtime.unwrap_or_else(|e| panic!("{e}")), super::server::for_fuzzing())
    });
    let split = octets.windows(4).position(|w| w == b"\r\n\r\n")?;
    let head = std::str::from_utf8(&octets[..split]).ok()?;
    let mut lines = head.split("\r\n");
    let mut words = lines.next()?.split(' ');
    let mut request = Request::builder().method(words.next()?).uri(words.next()?);
    for line in lines {
        let (name, value) = line.split_once(':')?;
        request = request.header(name, value.trim());
    }
    let content = http_body_util::Full::new(Bytes::copy_from_slice(&octets[split + 4..]));
    let request = request
        .header(header::HOST, "localhost")
        .header(header::AUTHORIZATION, "Bearer token")
        .body(content)
        .ok()?;
    let answered: Response<_> = runtime.block_on(serve(context, request)).ok()?;
    Some(answered.status().as_u16())
}
