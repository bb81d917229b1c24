//! Requests and answers, within limits. Reads are tried again; a write is sent once.

use std::io::{self, Read};
use std::time::Duration;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use http_body_util::{BodyExt, Full};
use hyper::body::{Bytes, Incoming};
use hyper::header::{self, HeaderMap, HeaderValue};
use hyper::{Method, Request, Response, Uri};
use jiff::Timestamp;
use tokio::runtime::Runtime;

use super::channel::{Channel, connect};
use super::tls::{Trust, trust};
use super::{Access, ClientError, Credentials};
use crate::fingerprint::Fingerprint;

/// How long, and how much.
#[derive(Debug, Clone, Copy)]
pub struct Limits {
    /// A connection is made, and an answer begins, within this.
    pub wait: Duration,
    /// Octets of an answer that is kept whole.
    pub answer: u64,
    /// Octets of an answer that is read as it comes.
    pub stream: u64,
    /// How often a read is tried.
    pub tries: u32,
}

impl Default for Limits {
    fn default() -> Self {
        Self { wait: Duration::from_secs(30), answer: 64 << 20, stream: 4 << 30, tries: 3 }
    }
}

/// A device on the network.
pub struct Client {
    runtime: Runtime,
    trust: Trust,
    host: String,
    port: u16,
    authorization: Option<HeaderValue>,
    pub(super) limits: Limits,
    /// A connection that can be used again.
    open: Option<Channel>,
    /// What time it was on the device when it answered last.
    date: Option<Timestamp>,
}

/// An answer, kept whole.
#[derive(Debug, Clone)]
pub(super) struct Reply {
    pub(super) status: u16,
    pub(super) headers: HeaderMap,
    pub(super) content: Vec<u8>,
}

impl Reply {
    pub(super) fn header(&self, name: &str) -> Option<&str> {
        self.headers.get(name).and_then(|v| v.to_str().ok())
    }
}

/// What is asked.
#[derive(Debug, Clone, Default)]
pub(super) struct Asked<'a> {
    pub(super) path: String,
    pub(super) accept: Option<&'a str>,
    pub(super) kind: Option<&'a str>,
    pub(super) if_match: Option<&'a str>,
    pub(super) content: Vec<u8>,
}

impl Client {
    /// The way to a device; nothing is sent yet. `learn`: its certificate is believed this once.
    ///
    /// # Errors
    /// The address, the authority or the own certificate is wrong.
    pub fn new(access: &Access, limits: Limits, learn: bool) -> Result<Self, ClientError> {
        let wrong = || ClientError::Address(access.url.clone());
        let uri: Uri = access.url.parse().map_err(|_| wrong())?;
        let is_bare = uri.path().trim_matches('/').is_empty() && uri.query().is_none();
        if uri.scheme_str() != Some("https") || !is_bare {
            return Err(wrong());
        }
        let host = uri.host().ok_or_else(wrong)?.trim_matches(['[', ']']).to_owned();
        let authorization = match &access.credentials {
            Credentials::Token(token) => Some(format!("Bearer {token}")),
            Credentials::User(user, password) => {
                Some(format!("Basic {}", STANDARD.encode(format!("{user}:{password}"))))
            }
            Credentials::None | Credentials::Certificate(..) => None,
        };
        let authorization = authorization
            .map(|a| HeaderValue::from_str(&a))
            .transpose()
            .map_err(|_| ClientError::Credentials("the token has a character too many".into()))?
            .map(|mut value| {
                value.set_sensitive(true);
                value
            });
        let runtime = tokio::runtime::Builder::new_current_thread()
            .enable_all()
            .build()
            .map_err(|e| ClientError::Unreachable(access.url.clone(), e.to_string()))?;
        Ok(Self {
            runtime,
            trust: trust(access, learn)?,
            host,
            port: uri.port_u16().unwrap_or(443),
            authorization,
            limits,
            open: None,
            date: None,
        })
    }

    /// The certificate that the device showed last.
    pub fn shown(&self) -> Option<Fingerprint> {
        self.trust.shown()
    }

    /// What time it was on the device when it answered last; our own if it does not tell.
    pub(super) fn date(&self) -> Timestamp {
        self.date.unwrap_or_else(Timestamp::now)
    }

    /// The next request is on a connection of its own.
    pub(super) fn forget(&mut self) {
        self.open = None;
    }

    /// Asks for something, as often as it takes; the answer is kept whole.
    pub(super) fn get(&mut self, path: &str, accept: &str) -> Result<Reply, ClientError> {
        let asked = Asked { path: path.into(), accept: Some(accept), ..Asked::default() };
        self.again(|client| {
            let answer = client.exchange(&Method::GET, &asked)?;
            client.whole(answer)
        })
    }

    /// Asks for something that is read as it comes. What fails after the answer has begun is not
    /// tried again.
    pub(super) fn stream(
        &mut self,
        path: &str,
        accept: &str,
    ) -> Result<Result<Streamed<'_>, Reply>, ClientError> {
        let asked = Asked { path: path.into(), accept: Some(accept), ..Asked::default() };
        let answer = self.again(|client| client.exchange(&Method::GET, &asked))?;
        if !answer.status().is_success() {
            return self.whole(answer).map(Err);
        }
        Ok(Ok(Streamed {
            content: answer.into_body(),
            chunk: Bytes::new(),
            left: self.limits.stream,
            client: self,
        }))
    }

    /// Sends something that changes the device: once, on a connection of its own.
    pub(super) fn write(
        &mut self,
        method: &Method,
        asked: &Asked<'_>,
    ) -> Result<Reply, ClientError> {
        self.open = None;
        let answer = self.exchange(method, asked)?;
        let reply = self.whole(answer);
        self.open = None;
        reply
    }

    fn again<T>(
        &mut self,
        mut one: impl FnMut(&mut Self) -> Result<T, ClientError>,
    ) -> Result<T, ClientError> {
        let mut tries = 1;
        loop {
            let done = one(self);
            let may_help =
                matches!(done, Err(ClientError::NoAnswer(_) | ClientError::Unreachable(..)));
            if !may_help || tries >= self.limits.tries {
                return done;
            }
            self.open = None;
            std::thread::sleep(Duration::from_millis(100 << tries));
            tries += 1;
        }
    }

    /// One request and the head of its answer.
    fn exchange(
        &mut self,
        method: &Method,
        asked: &Asked<'_>,
    ) -> Result<Response<Incoming>, ClientError> {
        let mut channel = match self.open.take() {
            Some(channel) => channel,
            None => connect(&self.runtime, &self.trust, (&self.host, self.port), self.limits.wait)?,
        };
        let request = self.request(method, asked, matches!(channel, Channel::Two(_)))?;
        let wait = self.limits.wait;
        let answered = self.runtime.block_on(async {
            let answer = async {
                match &mut channel {
                    Channel::One(one) => one.send_request(request).await,
                    Channel::Two(two) => two.send_request(request).await,
                }
            };
            tokio::time::timeout(wait, answer).await
        });
        let answer = match answered {
            Ok(Ok(answer)) => answer,
            Ok(Err(error)) => return Err(ClientError::NoAnswer(error.to_string())),
            Err(_) => {
                let waited = format!("none within {} s", wait.as_secs_f64());
                return Err(ClientError::NoAnswer(waited));
            }
        };
        self.open = Some(channel);
        let date = answer.headers().get(header::DATE).and_then(|v| v.to_str().ok());
        self.date = date.and_then(|d| jiff::fmt::rfc2822::parse(d).ok()).map(|d| d.timestamp());
        if answer.status().is_redirection() && answer.status().as_u16() != 304 {
            let to = answer.headers().get(header::LOCATION);
            let to = to.and_then(|v| v.to_str().ok()).unwrap_or_default().to_owned();
            return Err(ClientError::Redirected(to));
        }
        Ok(answer)
    }

    fn request(
        &self,
        method: &Method,
        asked: &Asked<'_>,
        absolute: bool,
    ) -> Result<Request<Full<Bytes>>, ClientError> {
        let bracketed =
            if self.host.contains(':') { format!("[{}]", self.host) } else { self.host.clone() };
        let authority = format!("{bracketed}:{}", self.port);
        let uri = match absolute {
            true => format!("https://{authority}{}", asked.path),
            false => asked.path.clone(),
        };
        let mut request = Request::builder().method(method).uri(uri);
        if !absolute {
            request = request.header(header::HOST, authority);
        }
        let headers = [
            (header::ACCEPT, asked.accept),
            (header::CONTENT_TYPE, asked.kind),
            (header::IF_MATCH, asked.if_match),
            (header::USER_AGENT, Some(concat!("zarnet/", env!("CARGO_PKG_VERSION")))),
        ];
        for (name, value) in headers {
            if let Some(value) = value {
                request = request.header(name, value);
            }
        }
        if let Some(authorization) = &self.authorization {
            request = request.header(header::AUTHORIZATION, authorization.clone());
        }
        request
            .body(Full::new(Bytes::from(asked.content.clone())))
            .map_err(|e| ClientError::NotData(format!("{}: {e}", asked.path)))
    }

    /// The content of an answer, whole.
    fn whole(&mut self, answer: Response<Incoming>) -> Result<Reply, ClientError> {
        let (status, headers) = (answer.status().as_u16(), answer.headers().clone());
        let most = self.limits.answer;
        let mut streamed =
            Streamed { content: answer.into_body(), chunk: Bytes::new(), left: most, client: self };
        let mut content = Vec::new();
        let read = streamed.read_to_end(&mut content);
        match read {
            Ok(_) => Ok(Reply { status, headers, content }),
            Err(error) => {
                self.open = None;
                Err(failed_read(&error, most))
            }
        }
    }
}

/// Why the content of an answer could not be read.
pub(super) fn failed_read(error: &io::Error, most: u64) -> ClientError {
    match error.kind() {
        io::ErrorKind::FileTooLarge => ClientError::TooLarge(most),
        _ => ClientError::NoAnswer(error.to_string()),
    }
}

/// The content of an answer, as it comes.
pub(super) struct Streamed<'c> {
    content: Incoming,
    chunk: Bytes,
    /// Octets that are still taken.
    left: u64,
    client: &'c mut Client,
}

impl Streamed<'_> {
    /// The next piece; none at the end. Waits as long as is given.
    pub(super) fn next(&mut self, wait: Duration) -> io::Result<Option<Bytes>> {
        let content = &mut self.content;
        let frame = self
            .client
            .runtime
            .block_on(async { tokio::time::timeout(wait, content.frame()).await });
        match frame {
            Err(_) => Err(io::ErrorKind::TimedOut.into()),
            Ok(None) => Ok(None),
            Ok(Some(Err(error))) => Err(io::Error::other(error.to_string())),
            Ok(Some(Ok(frame))) => Ok(Some(frame.into_data().unwrap_or_default())),
        }
    }
}

impl Read for Streamed<'_> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        while self.chunk.is_empty() {
            match self.next(self.client.limits.wait)? {
                None => return Ok(0),
                Some(chunk) => {
                    self.left = self
                        .left
                        .checked_sub(chunk.len() as u64)
                        .ok_or(io::ErrorKind::FileTooLarge)?;
                    self.chunk = chunk;
                }
            }
        }
        let n = buffer.len().min(self.chunk.len());
        buffer[..n].copy_from_slice(&self.chunk.split_to(n));
        Ok(n)
    }
}
