//! One secured connection, of whichever version of HTTP the device speaks.

use std::time::Duration;

use http_body_util::Full;
use hyper::body::Bytes;
use hyper_util::rt::{TokioExecutor, TokioIo};
use tokio::net::TcpStream;
use tokio::runtime::Runtime;
use tokio_rustls::TlsConnector;
use tokio_rustls::rustls::pki_types::ServerName;

use super::ClientError;
use super::tls::Trust;

/// One connection.
pub(super) enum Channel {
    One(hyper::client::conn::http1::SendRequest<Full<Bytes>>),
    Two(hyper::client::conn::http2::SendRequest<Full<Bytes>>),
}

/// Connects to a device, within a time.
///
/// # Errors
/// It cannot be reached, or is not believed.
pub(super) fn connect(
    runtime: &Runtime,
    trust: &Trust,
    (host, port): (&str, u16),
    wait: Duration,
) -> Result<Channel, ClientError> {
    let at = format!("{host}:{port}");
    let unreachable =
        |e: &dyn std::fmt::Display| ClientError::Unreachable(at.clone(), e.to_string());
    let name =
        ServerName::try_from(host.to_owned()).map_err(|_| ClientError::Address(host.into()))?;
    let connector = TlsConnector::from(trust.config.clone());
    let name_of_host = host.to_owned();
    let connected = async move {
        let stream = TcpStream::connect((name_of_host.as_str(), port)).await?;
        stream.set_nodelay(true)?;
        connector.connect(name, stream).await
    };
    let made = runtime.block_on(async { tokio::time::timeout(wait, connected).await });
    let stream = match made {
        Ok(Ok(stream)) => stream,
        Ok(Err(error)) => {
            let inner =
                error.get_ref().and_then(|e| e.downcast_ref::<tokio_rustls::rustls::Error>());
            return Err(match inner {
                Some(tokio_rustls::rustls::Error::InvalidCertificate(why)) => {
                    ClientError::Untrusted {
                        host: host.into(),
                        why: told(why),
                        fingerprint: trust.shown(),
                    }
                }
                _ => unreachable(&error),
            });
        }
        Err(_) => return Err(unreachable(&format!("nothing within {} s", wait.as_secs_f64()))),
    };
    let is_two = stream.get_ref().1.alpn_protocol() == Some(b"h2");
    let stream = TokioIo::new(stream);
    runtime.block_on(async move {
        let failed = |e: hyper::Error| ClientError::NoAnswer(e.to_string());
        if is_two {
            let handshake = hyper::client::conn::http2::handshake(TokioExecutor::new(), stream);
            let (sender, driver) = handshake.await.map_err(failed)?;
            tokio::spawn(async move {
                let _ = driver.await;
            });
            return Ok(Channel::Two(sender));
        }
        let (sender, driver) =
            hyper::client::conn::http1::handshake(stream).await.map_err(failed)?;
        tokio::spawn(async move {
            let _ = driver.await;
        });
        Ok(Channel::One(sender))
    })
}

fn told(why: &tokio_rustls::rustls::CertificateError) -> String {
    use tokio_rustls::rustls::CertificateError as E;
    match why {
        E::ApplicationVerificationFailure => "it is not the one of `pin`".into(),
        E::UnknownIssuer => "nobody who is trusted made it".into(),
        E::NotValidForName | E::NotValidForNameContext { .. } => "it is for another name".into(),
        E::Expired | E::ExpiredContext { .. } => "its time is over".into(),
        other => format!("{other:?}"),
    }
}
