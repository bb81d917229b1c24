//! Answers: whole, as streams, and broken on purpose.

use std::io::{self, Write};
use std::pin::Pin;
use std::task;

use http_body_util::combinators::BoxBody;
use http_body_util::{BodyExt, Full};
use hyper::body::{Body, Bytes, Frame};
use hyper::header::{self, HeaderValue};
use hyper::{Response, StatusCode};
use tokio::sync::mpsc;

use super::HangUp;
use crate::protocol::YANG_DATA;

/// An answer with its content.
pub(in crate::stand_in) type Answer = Response<BoxBody<Bytes, HangUp>>;

/// Octets that are sent at once.
const CHUNK: usize = 1 << 16;

fn whole(content: impl Into<Bytes>) -> BoxBody<Bytes, HangUp> {
    Full::new(content.into()).map_err(|never| match never {}).boxed()
}

pub(super) fn empty(status: StatusCode) -> Answer {
    let mut answer = Response::new(whole(Bytes::new()));
    *answer.status_mut() = status;
    answer
}

pub(super) fn text(status: StatusCode, kind: &'static str, content: impl Into<Bytes>) -> Answer {
    let mut answer = Response::new(whole(content));
    *answer.status_mut() = status;
    answer.headers_mut().insert(header::CONTENT_TYPE, HeaderValue::from_static(kind));
    answer.headers_mut().insert(header::CACHE_CONTROL, HeaderValue::from_static("no-cache"));
    answer
}

pub(super) fn json(status: StatusCode, value: &serde_json::Value) -> Answer {
    let mut content = serde_json::to_vec_pretty(value).unwrap_or_default();
    content.push(b'\n');
    text(status, YANG_DATA, content)
}

/// An answer that is written while it is sent: `write` runs beside.
pub(super) fn streamed(
    kind: &'static str,
    write: impl FnOnce(&mut dyn Write) -> io::Result<()> + Send + 'static,
) -> Answer {
    let (sender, receiver) = mpsc::channel(8);
    tokio::task::spawn_blocking(move || {
        let mut out = Sending { sender, chunk: Vec::with_capacity(CHUNK) };
        // who does not read to the end does not want it
        let _ = write(&mut out).and_then(|()| out.flush());
    });
    let mut answer = Response::new(received(receiver));
    answer.headers_mut().insert(header::CONTENT_TYPE, HeaderValue::from_static(kind));
    answer.headers_mut().insert(header::CACHE_CONTROL, HeaderValue::from_static("no-cache"));
    answer
}

/// What comes out of a channel, as the content of an answer.
pub(super) fn received(receiver: mpsc::Receiver<Result<Bytes, HangUp>>) -> BoxBody<Bytes, HangUp> {
    BodyExt::boxed(Received(receiver))
}

struct Received(mpsc::Receiver<Result<Bytes, HangUp>>);

impl Body for Received {
    type Data = Bytes;
    type Error = HangUp;

    fn poll_frame(
        mut self: Pin<&mut Self>,
        context: &mut task::Context<'_>,
    ) -> task::Poll<Option<Result<Frame<Bytes>, HangUp>>> {
        self.0.poll_recv(context).map(|item| item.map(|r| r.map(Frame::data)))
    }
}

/// A writer whose octets are sent in chunks.
struct Sending {
    sender: mpsc::Sender<Result<Bytes, HangUp>>,
    chunk: Vec<u8>,
}

impl Write for Sending {
    fn write(&mut self, octets: &[u8]) -> io::Result<usize> {
        self.chunk.extend_from_slice(octets);
        if self.chunk.len() >= CHUNK {
            self.flush()?;
        }
        Ok(octets.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        if self.chunk.is_empty() {
            return Ok(());
        }
        let chunk = std::mem::replace(&mut self.chunk, Vec::with_capacity(CHUNK));
        let sent = self.sender.blocking_send(Ok(chunk.into()));
        sent.map_err(|_| io::Error::from(io::ErrorKind::BrokenPipe))
    }
}

/// The head alone (RFC 9110 §9.3.2).
pub(super) fn without_content(answer: Answer) -> Answer {
    answer.map(|_| whole(Bytes::new()))
}

/// The first half, and then the connection ends.
pub(super) fn partial(answer: Answer) -> Answer {
    let (head, mut content) = answer.into_parts();
    let (sender, receiver) = mpsc::channel(4);
    tokio::spawn(async move {
        let frame = content.frame().await.and_then(Result::ok).and_then(|f| f.into_data().ok());
        let first = frame.unwrap_or_default();
        let _ = sender.send(Ok(first.slice(..first.len() / 2))).await;
        let _ = sender.send(Err(HangUp)).await;
    });
    Response::from_parts(head, received(receiver))
}

/// Something that was not asked for.
pub(super) fn wrong() -> Answer {
    text(StatusCode::OK, YANG_DATA, "{\"ietf-nat:nat\": [\"\u{1b}[2J\", 1e400, ")
}

/// An answer without an end.
pub(super) fn endless() -> Answer {
    streamed(YANG_DATA, |out| {
        out.write_all(b"{\"ietf-nat:nat\":{\"instances\":{\"instance\":[")?;
        loop {
            out.write_all(b"{\"id\":1,\"mapping-table\":{\"mapping-entry\":[]}},")?;
        }
    })
}
