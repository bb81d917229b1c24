//! The devices of a stand-in on the network: a port each.

use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use hyper::service::service_fn;
use hyper_util::rt::{TokioExecutor, TokioIo, TokioTimer};
use hyper_util::server::conn::auto;
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::Semaphore;
use tokio_rustls::TlsAcceptor;
use zarnet_core::plan::DeviceId;

use super::estate::{Engine, Setup};
use super::http::{Context, serve};
use super::misbehave::Misbehave;
use super::tls::identity;
use crate::fingerprint::Fingerprint;

/// Connections at one time, to each device.
const CONNECTIONS: usize = 64;
/// A connection is secured, and the head of a request is read, within this.
const HEAD_TIME: Duration = Duration::from_secs(10);
/// Octets of a request's head.
const HEAD: usize = 32 << 10;

/// A device that can be asked.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Listening {
    /// Its name.
    pub device: String,
    /// Where it is.
    pub address: SocketAddr,
    /// What its certificate is known by.
    pub fingerprint: Fingerprint,
    /// The certificate, as text.
    pub certificate: String,
    /// What requests must know.
    pub token: String,
}

impl Listening {
    /// Where it is, as people write it.
    pub fn url(&self) -> String {
        match self.address.ip().is_loopback() {
            true => format!("https://localhost:{}", self.address.port()),
            false => format!("https://{}", self.address),
        }
    }
}

/// A stand-in that runs.
pub struct StandIn {
    runtime: tokio::runtime::Runtime,
    engine: Engine,
    /// Its devices, in the order of the plan.
    pub devices: Vec<Listening>,
}

impl StandIn {
    /// Starts the devices of a plan: the first at an address, the others at the ports behind it; with
    /// port 0, wherever there is room.
    ///
    /// # Errors
    /// The address cannot be listened at.
    pub fn start(setup: Setup, address: SocketAddr, misbehave: Misbehave) -> std::io::Result<Self> {
        let names: Vec<String> = setup.plan.devices.iter().map(|d| d.name.clone()).collect();
        let runtime =
            tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build()?;
        let engine = Engine::start(setup)?;
        let misbehave = Arc::new(misbehave);
        let mut devices = Vec::new();
        for (i, name) in (0..).zip(names) {
            let mut own = address;
            if address.port() != 0 {
                let port = address.port().checked_add(i);
                own.set_port(port.ok_or_else(|| std::io::Error::other("no port is left"))?);
            }
            let listener = runtime.block_on(TcpListener::bind(own))?;
            let address = listener.local_addr()?;
            let identity = identity(address)?;
            let token = token()?;
            let context = Arc::new(Context {
                engine: engine.clone(),
                device: DeviceId(i),
                address,
                token: token.clone(),
                misbehave: misbehave.clone(),
            });
            devices.push(Listening {
                device: name,
                address,
                fingerprint: identity.fingerprint,
                certificate: identity.pem,
                token,
            });
            let acceptor = TlsAcceptor::from(identity.config);
            runtime.spawn(accept(listener, acceptor, context));
        }
        // unconfirmed edits and thresholds have their time, whoever asks
        let ticking = engine.clone();
        runtime.spawn(async move {
            loop {
                tokio::time::sleep(Duration::from_millis(200)).await;
                ticking.ask(|_| ()).await;
            }
        });
        Ok(Self { runtime, engine, devices })
    }

    /// Lets time step on, where it goes by steps.
    pub fn step(&self, by: Duration) {
        self.runtime.block_on(self.engine.ask(move |estate| estate.clock.step(by)));
    }

    /// Why the traffic stands still, if it does.
    pub fn halted(&self) -> Option<String> {
        self.runtime
            .block_on(
                self.engine
                    .ask(|estate| estate.halted.clone().or_else(|| estate.log_failure.clone())),
            )
            .flatten()
    }

    /// Configures a device by other means than the network, as somebody who stands before it does.
    ///
    /// # Errors
    /// It is not taken.
    pub fn configure(&self, device: DeviceId, document: serde_json::Value) -> Result<(), String> {
        self.changed(move |estate| estate.configure(device, document))
    }

    /// The same, with a plan, and taken back after a time unless somebody confirms it.
    ///
    /// # Errors
    /// It is not taken.
    pub fn edit_unconfirmed(
        &self,
        device: DeviceId,
        plan: &zarnet_core::plan::Plan,
        within: Duration,
    ) -> Result<(), String> {
        let plan = plan.clone();
        self.changed(move |estate| {
            let datastore = &estate.device(device).datastore;
            let wanted = zarnet_formats::ietf_nat::export(&plan, device, datastore.form);
            let edits =
                zarnet_formats::data_model::difference(&datastore.running, &wanted.document);
            estate.edit(device, &edits, Some(within)).map_err(|(_, refused)| refused)
        })
    }

    fn changed(
        &self,
        change: impl for<'t> FnOnce(
            &mut super::estate::Estate<'t>,
        ) -> Result<(), Vec<super::datastore::Refused>>
        + Send
        + 'static,
    ) -> Result<(), String> {
        match self.runtime.block_on(self.engine.ask(change)) {
            Some(Ok(())) => Ok(()),
            Some(Err(refused)) => Err(format!("{refused:?}")),
            None => Err("the device failed".into()),
        }
    }

    /// Whether an edit of a device waits to be confirmed.
    pub fn is_unconfirmed(&self, device: DeviceId) -> bool {
        let asked = self.engine.ask(move |e| e.device(device).datastore.unconfirmed.is_some());
        self.runtime.block_on(asked).unwrap_or(false)
    }

    /// Lets the time of an edit that waits to be confirmed be over.
    pub fn take_back(&self, device: DeviceId) {
        let _ = self.changed(move |estate| estate.take_back(device).map_err(|r| vec![r]));
    }

    /// Configuration that runs and that is saved, of a device.
    pub fn configuration(
        &self,
        device: DeviceId,
    ) -> Option<(serde_json::Value, serde_json::Value)> {
        self.runtime.block_on(self.engine.ask(move |estate| {
            let datastore = &estate.device(device).datastore;
            ((*datastore.running).clone(), (*datastore.startup).clone())
        }))
    }
}

/// A secret that nobody guesses.
fn token() -> std::io::Result<String> {
    use ring::rand::SecureRandom;
    let mut octets = [0u8; 32];
    ring::rand::SystemRandom::new()
        .fill(&mut octets)
        .map_err(|_| std::io::Error::other("the system has no randomness"))?;
    Ok(octets.iter().map(|o| format!("{o:02x}")).collect())
}

async fn accept(listener: TcpListener, acceptor: TlsAcceptor, context: Arc<Context>) {
    let room = Arc::new(Semaphore::new(CONNECTIONS));
    loop {
        let Ok(place) = room.clone().acquire_owned().await else { return };
        let stream = match listener.accept().await {
            Ok((stream, _)) => stream,
            // no descriptors are left: others may end
            Err(_) => {
                tokio::time::sleep(Duration::from_millis(50)).await;
                continue;
            }
        };
        let (acceptor, context) = (acceptor.clone(), context.clone());
        tokio::spawn(async move {
            connection(stream, acceptor, context).await;
            drop(place);
        });
    }
}

/// Serves a connection; what goes wrong with it is the end of it alone.
async fn connection(stream: TcpStream, acceptor: TlsAcceptor, context: Arc<Context>) {
    let _ = stream.set_nodelay(true);
    let Ok(Ok(secured)) = tokio::time::timeout(HEAD_TIME, acceptor.accept(stream)).await else {
        return;
    };
    let service = service_fn(move |request| {
        let context = context.clone();
        async move { serve(&context, request).await }
    });
    let mut builder = auto::Builder::new(TokioExecutor::new());
    builder.http1().timer(TokioTimer::new()).header_read_timeout(HEAD_TIME).max_buf_size(HEAD);
    builder.http2().timer(TokioTimer::new()).max_header_list_size(HEAD as u32);
    let _ = builder.serve_connection(TokioIo::new(secured), service).await;
}

/// A device to throw requests at.
pub(super) fn for_fuzzing() -> Context {
    let plan = zarnet_formats::plan::from_text(
        std::path::Path::new("edge.toml"),
        "[[device]]\nname = \"edge\"\n[[device.interface]]\nname = \"floor\"\nrealm = \
         \"internal\"\naddress = \"10.0.0.1/24\"\n[[device.interface]]\nname = \"uplink\"\nrealm = \
         \"external\"\naddress = \"192.0.2.1/28\"\n[[device.rule]]\nname = \"out\"\ntype = \
         \"overload\"\nas = \"uplink\"\n"
            .into(),
    );
    let plan = plan.map(|l| l.plan).unwrap_or_default();
    let setup = Setup {
        plan: Arc::new(plan),
        playing: None,
        pace: super::Pace::Steps,
        at: zarnet_core::net::Instant::ZERO,
        begins: jiff::Timestamp::UNIX_EPOCH,
        form: zarnet_formats::ietf_nat::ModuleForm::WithPolicy,
        saving: super::Saving::Explicit,
        seed: 0,
        log: None,
    };
    Context {
        engine: Engine::start(setup).unwrap_or_else(|e| panic!("{e}")),
        device: DeviceId(0),
        address: SocketAddr::from(([127, 0, 0, 1], 8443)),
        token: "token".into(),
        misbehave: Arc::default(),
    }
}
