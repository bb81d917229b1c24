//! A certificate of its own for each run.

use std::net::SocketAddr;
use std::sync::Arc;

use tokio_rustls::rustls::pki_types::{PrivateKeyDer, PrivatePkcs8KeyDer};
use tokio_rustls::rustls::{self, ServerConfig};

use crate::fingerprint::Fingerprint;

/// How connections are secured, and what clients know the server by.
pub(super) struct Identity {
    pub(super) config: Arc<ServerConfig>,
    pub(super) fingerprint: Fingerprint,
    /// The certificate as text.
    pub(super) pem: String,
}

/// Makes a certificate for an address, and for `localhost`.
///
/// # Errors
/// It cannot be made.
pub(super) fn identity(address: SocketAddr) -> std::io::Result<Identity> {
    let failed = |e: &dyn std::fmt::Display| std::io::Error::other(e.to_string());
    let mut names = vec!["localhost".to_owned(), "127.0.0.1".to_owned(), "::1".to_owned()];
    let own = address.ip().to_string();
    if !names.contains(&own) {
        names.push(own);
    }
    let made = rcgen::generate_simple_self_signed(names).map_err(|e| failed(&e))?;
    let certificate = made.cert.der().clone();
    let key = PrivateKeyDer::Pkcs8(PrivatePkcs8KeyDer::from(made.signing_key.serialize_der()));
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let mut config = ServerConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()
        .map_err(|e| failed(&e))?
        .with_no_client_auth()
        .with_single_cert(vec![certificate.clone()], key)
        .map_err(|e| failed(&e))?;
    config.alpn_protocols = vec![b"h2".to_vec(), b"http/1.1".to_vec()];
    Ok(Identity {
        config: Arc::new(config),
        fingerprint: Fingerprint::of(&certificate),
        pem: made.cert.pem(),
    })
}
