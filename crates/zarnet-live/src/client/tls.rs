//! Whom to believe: a certificate that is known, an authority, or those that the system trusts.

use std::path::Path;
use std::sync::{Arc, Mutex, PoisonError};

use tokio_rustls::rustls::client::WebPkiServerVerifier;
use tokio_rustls::rustls::client::danger::{
    HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier,
};
use tokio_rustls::rustls::crypto::{
    CryptoProvider, ring, verify_tls12_signature, verify_tls13_signature,
};
use tokio_rustls::rustls::pki_types::pem::PemObject;
use tokio_rustls::rustls::pki_types::{CertificateDer, PrivateKeyDer, ServerName, UnixTime};
use tokio_rustls::rustls::{
    CertificateError, ClientConfig, DigitallySignedStruct, Error, RootCertStore, SignatureScheme,
};

use super::{Access, ClientError, Credentials};
use crate::fingerprint::Fingerprint;

/// How a connection is secured.
pub(super) struct Trust {
    pub(super) config: Arc<ClientConfig>,
    /// The certificate that was shown last.
    pub(super) shown: Arc<Mutex<Option<Fingerprint>>>,
}

impl Trust {
    /// The certificate that was shown last.
    pub(super) fn shown(&self) -> Option<Fingerprint> {
        *self.shown.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// What is believed, by an access; `learn`: any certificate is, this once, to be known by later.
///
/// # Errors
/// The authority or the own certificate cannot be read.
pub(super) fn trust(access: &Access, learn: bool) -> Result<Trust, ClientError> {
    let failed = |e: &dyn std::fmt::Display| ClientError::Credentials(e.to_string());
    let provider = Arc::new(ring::default_provider());
    let shown = Arc::new(Mutex::new(None));
    let believed = match (access.pin, learn) {
        (Some(pin), _) => Believed::Known(pin),
        (None, true) => Believed::Anybody,
        (None, false) => {
            let roots = Arc::new(roots(access.authority.as_deref())?);
            let verifier = WebPkiServerVerifier::builder_with_provider(roots, provider.clone())
                .build()
                .map_err(|e| failed(&e))?;
            Believed::Authorities(verifier)
        }
    };
    let verifier = Verifier { believed, provider: provider.clone(), shown: shown.clone() };
    let builder = ClientConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()
        .map_err(|e| failed(&e))?
        .dangerous()
        .with_custom_certificate_verifier(Arc::new(verifier));
    let mut config = match &access.credentials {
        Credentials::Certificate(certificate, key) => {
            let chain = certificates(certificate)?;
            let key = PrivateKeyDer::from_pem_file(key)
                .map_err(|e| ClientError::Credentials(format!("{}: {e}", key.display())))?;
            builder.with_client_auth_cert(chain, key).map_err(|e| failed(&e))?
        }
        Credentials::None | Credentials::Token(_) | Credentials::User(..) => {
            builder.with_no_client_auth()
        }
    };
    config.alpn_protocols = vec![b"http/1.1".to_vec(), b"h2".to_vec()];
    Ok(Trust { config: Arc::new(config), shown })
}

fn certificates(path: &Path) -> Result<Vec<CertificateDer<'static>>, ClientError> {
    let wrong =
        |e: &dyn std::fmt::Display| ClientError::Credentials(format!("{}: {e}", path.display()));
    let list: Result<Vec<_>, _> =
        CertificateDer::pem_file_iter(path).map_err(|e| wrong(&e))?.collect();
    let list = list.map_err(|e| wrong(&e))?;
    if list.is_empty() { Err(wrong(&"there is no certificate in it")) } else { Ok(list) }
}

fn roots(authority: Option<&Path>) -> Result<RootCertStore, ClientError> {
    let mut store = RootCertStore::empty();
    let list = match authority {
        Some(path) => certificates(path)?,
        None => rustls_native_certs::load_native_certs().certs,
    };
    store.add_parsable_certificates(list);
    if store.is_empty() {
        // nobody is trusted: then nothing can be believed, which is told when it comes to it
        store.roots.clear();
    }
    Ok(store)
}

#[derive(Debug)]
enum Believed {
    Known(Fingerprint),
    Authorities(Arc<WebPkiServerVerifier>),
    Anybody,
}

#[derive(Debug)]
struct Verifier {
    believed: Believed,
    provider: Arc<CryptoProvider>,
    shown: Arc<Mutex<Option<Fingerprint>>>,
}

impl ServerCertVerifier for Verifier {
    fn verify_server_cert(
        &self,
        certificate: &CertificateDer<'_>,
        intermediates: &[CertificateDer<'_>],
        name: &ServerName<'_>,
        ocsp: &[u8],
        now: UnixTime,
    ) -> Result<ServerCertVerified, Error> {
        let own = Fingerprint::of(certificate);
        *self.shown.lock().unwrap_or_else(PoisonError::into_inner) = Some(own);
        match &self.believed {
            Believed::Known(pin) if *pin == own => Ok(ServerCertVerified::assertion()),
            Believed::Known(_) => {
                Err(Error::InvalidCertificate(CertificateError::ApplicationVerificationFailure))
            }
            Believed::Anybody => Ok(ServerCertVerified::assertion()),
            Believed::Authorities(verifier) => {
                verifier.verify_server_cert(certificate, intermediates, name, ocsp, now)
            }
        }
    }

    fn verify_tls12_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, Error> {
        let algorithms = &self.provider.signature_verification_algorithms;
        verify_tls12_signature(message, certificate, signed, algorithms)
    }

    fn verify_tls13_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, Error> {
        let algorithms = &self.provider.signature_verification_algorithms;
        verify_tls13_signature(message, certificate, signed, algorithms)
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        self.provider.signature_verification_algorithms.supported_schemes()
    }
}
