//! A server that is no device, or wants to be taken for one: whatever it answers, the client says
//! what is wrong, soon, and keeps its secrets.

use std::io::{Read, Write};
use std::net::TcpListener;
use std::sync::Arc;
use std::sync::mpsc::{Receiver, channel};
use std::time::{Duration, Instant};

use tokio_rustls::rustls::pki_types::{PrivateKeyDer, PrivatePkcs8KeyDer};
use tokio_rustls::rustls::{ServerConfig, ServerConnection, StreamOwned, crypto};
use zarnet_live::client::{Access, ClientError, Credentials, Device, Limits};
use zarnet_live::fingerprint::Fingerprint;

/// A server that answers every request alike, and tells what it was asked.
fn server(answer: impl Into<Vec<u8>>) -> (Access, Receiver<String>) {
    let made = rcgen::generate_simple_self_signed(vec!["localhost".to_owned()]).unwrap();
    let certificate = made.cert.der().clone();
    let key = PrivateKeyDer::Pkcs8(PrivatePkcs8KeyDer::from(made.signing_key.serialize_der()));
    let config = ServerConfig::builder_with_provider(Arc::new(crypto::ring::default_provider()))
        .with_safe_default_protocol_versions()
        .unwrap()
        .with_no_client_auth()
        .with_single_cert(vec![certificate.clone()], key)
        .unwrap();
    let config = Arc::new(config);
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let port = listener.local_addr().unwrap().port();
    let (sender, asked) = channel();
    let answer = answer.into();
    std::thread::spawn(move || {
        for stream in listener.incoming().flatten() {
            let connection = ServerConnection::new(config.clone()).unwrap();
            let mut stream = StreamOwned::new(connection, stream);
            let mut request = vec![0; 1 << 14];
            let Ok(n) = stream.read(&mut request) else { continue };
            let _ = sender.send(String::from_utf8_lossy(&request[..n]).into_owned());
            let _ = stream.write_all(&answer);
            let _ = stream.flush();
            stream.conn.send_close_notify();
            let _ = stream.flush();
        }
    });
    let access = Access {
        url: format!("https://localhost:{port}"),
        pin: Some(Fingerprint::of(&certificate)),
        authority: None,
        credentials: Credentials::Token("secret".into()),
    };
    (access, asked)
}

fn error(answer: impl Into<Vec<u8>>) -> ClientError {
    let (access, _asked) = server(answer);
    let begun = Instant::now();
    let limits = Limits { wait: Duration::from_secs(2), answer: 1 << 16, ..Limits::default() };
    let error = Device::open(&access, limits, false).err().expect("it is no device");
    assert!(begun.elapsed() < Duration::from_secs(15), "{error}");
    assert!(!error.to_string().contains("secret"), "{error}");
    error
}

fn answer(head: &str, content: &str) -> String {
    format!("HTTP/1.1 {head}\r\nContent-Length: {}\r\n\r\n{content}", content.len())
}

#[test]
fn nobody_is_followed_to_another_host() {
    let told = error(answer("302 Found\r\nLocation: https://evil.example/restconf", ""));
    assert_eq!(told, ClientError::Redirected("https://evil.example/restconf".into()));
    // nor by the root that the server tells
    let meta = "<XRD><Link rel='restconf' href='https://evil.example/r'/></XRD>";
    let (access, asked) = server(answer("200 OK", meta));
    let limits = Limits { wait: Duration::from_secs(2), ..Limits::default() };
    assert!(Device::open(&access, limits, false).is_err());
    let requests: Vec<String> = asked.try_iter().collect();
    assert!(requests.len() >= 2 && requests[1].starts_with("GET /r/data/"), "{requests:?}");
}

#[test]
fn what_is_no_answer_is_told_as_such() {
    for wrong in
        ["", "HTTP/1.1", "SSH-2.0-x\r\n\r\n", "HTTP/1.1 200 OK\r\nContent-Length: 99\r\n\r\nx"]
    {
        assert!(matches!(error(wrong), ClientError::NoAnswer(_)), "{wrong:?}");
    }
    let endless_head = format!("HTTP/1.1 200 OK\r\nX: {}\r\n\r\n", "a".repeat(1 << 20));
    assert!(matches!(error(endless_head), ClientError::NoAnswer(_)));
}

#[test]
fn what_is_too_much_is_cut_off() {
    let content = " ".repeat(1 << 17);
    assert_eq!(error(answer("200 OK", &content)), ClientError::TooLarge(1 << 16));
}

#[test]
fn a_host_meta_that_is_none_is_refused() {
    for meta in [
        "",
        "not xml <",
        "<XRD/>",
        "<XRD><Link rel='restconf'/></XRD>",
        "<!DOCTYPE x [<!ENTITY a \"aaaa\"><!ENTITY b \"&a;&a;&a;\">]><XRD>&b;</XRD>",
    ] {
        assert!(matches!(error(answer("200 OK", meta)), ClientError::NotData(_)), "{meta}");
    }
}

#[test]
fn access_that_is_refused_is_told_without_the_token() {
    assert_eq!(error(answer("401 Unauthorized", "secret?")), ClientError::NotAllowed(401));
    assert_eq!(error(answer("403 Forbidden", "")), ClientError::NotAllowed(403));
}

#[test]
fn nobody_at_all_is_unreachable() {
    let port = TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
    let access = Access::anonymous(&format!("https://127.0.0.1:{port}"));
    let limits = Limits { wait: Duration::from_secs(2), ..Limits::default() };
    let error = Device::open(&access, limits, false).err().unwrap();
    assert!(matches!(error, ClientError::Unreachable(..)), "{error}");
    for url in ["http://localhost:1", "https://", "localhost", "https://localhost/path", "ftp://x"]
    {
        let access = Access::anonymous(url);
        let error = Device::open(&access, limits, false).err().unwrap();
        assert_eq!(error, ClientError::Address(url.into()));
    }
}
