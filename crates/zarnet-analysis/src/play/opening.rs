//! How traffic is opened for a plan.

use zarnet_core::net::Protocol;
use zarnet_core::plan::{DeviceId, InterfaceId, Plan};
use zarnet_formats::plan::Loaded;
use zarnet_formats::traffic::{Given, Growth, Reading, Traffic};

use crate::{AnalysisError, AskError};

/// What is read, and how. A question that tries several plans opens it for each, because names in
/// traffic are those of the plan.
#[derive(Debug, Clone)]
pub struct Opening {
    /// Files, flows and what was read from a pipe.
    pub given: Vec<Given>,
    /// Device and interface at which captures were made, as they are written.
    pub seen_at: Option<String>,
    /// Whether wrong lines and packets are passed over.
    pub skip_bad: bool,
    /// Where random choices start from.
    pub seed: u64,
    /// Whether files may be named that lie outside of the folder.
    pub allow_outside: bool,
    /// When the clock of the traffic begins, in nanoseconds since 1970, if that is said.
    pub begins: Option<i128>,
    /// Octets of memory that are free, if that is known.
    pub memory: Option<f64>,
    /// How many threads may work on the question. The answer is the same for any number.
    pub threads: usize,
}

impl Opening {
    /// The same for one of several runs that are made side by side.
    pub(crate) fn on_one_thread(&self) -> Self {
        Self { threads: 1, ..self.clone() }
    }

    /// Opens the traffic for a plan, with load profiles that have grown.
    ///
    /// # Errors
    /// It is wrong, names what the plan does not have, or needs more memory than there is.
    pub fn open(&self, loaded: &Loaded, growth: Growth) -> Result<Traffic, AnalysisError> {
        let plan = &loaded.plan;
        let seen_at = self.seen_at.as_deref().map(|s| observation_point(plan, s)).transpose()?;
        let Self { skip_bad, seed, allow_outside, begins, threads, .. } = *self;
        let reading = Reading { seen_at, skip_bad, seed, growth, allow_outside, begins, threads };
        let traffic = Traffic::open(&self.given, loaded, reading).map_err(|errors| {
            let count = errors.len();
            AnalysisError::Traffic(errors, count)
        })?;
        check_memory(&traffic, plan, self.memory)?;
        Ok(traffic)
    }
}

/// Octets that an entry of a table takes, with its session (docs/speed.md).
const ENTRY: f64 = 140.0;

/// Refuses load profiles whose table would not fit into memory: better said before than found out
/// after an hour.
fn check_memory(traffic: &Traffic, plan: &Plan, available: Option<f64>) -> Result<(), AskError> {
    let timers = plan.devices.iter().map(|d| &d.timers);
    let idle = |p: Protocol| {
        let longest = timers.clone().map(|t| match p {
            // one that ends properly lasts this long after
            Protocol::TCP => t.tcp_close,
            Protocol::UDP => t.udp,
            _ => t.other.max(t.icmp),
        });
        longest.max().unwrap_or_default().as_nanos() as f64
    };
    let need: f64 = traffic.loads().map(|l| l.most_alive(idle(l.protocol))).sum::<f64>() * ENTRY;
    match available {
        Some(available) if need > available => {
            let (need, available) = (need / 1e9, available / 1e9);
            let message = format!(
                "the load profiles need about {need:.1} GB of memory for their table, and \
                 {available:.1} GB are free"
            );
            let help =
                "lower `rate` or `each-lasts`, or split the profile over several runs".to_owned();
            Err(AskError::new("too-much-memory", message, help))
        }
        _ => Ok(()),
    }
}

/// A device of a plan by its name.
///
/// # Errors
/// The plan has none of that name.
pub fn device(plan: &Plan, name: &str) -> Result<DeviceId, AskError> {
    plan.device(name).ok_or_else(|| {
        let names: Vec<&str> = plan.devices.iter().map(|d| d.name.as_str()).collect();
        let help = format!("the plan has {}", names.join(", "));
        AskError::new("unknown-name", format!("there is no device `{name}`"), help)
    })
}

fn observation_point(plan: &Plan, text: &str) -> Result<(DeviceId, InterfaceId), AskError> {
    let (name, interface) = text.split_once('/').unwrap_or((text, ""));
    let id = device(plan, name)?;
    let interfaces = &plan.devices[id.index()].interfaces;
    let found = interfaces.iter().position(|i| i.name == interface);
    found.map(|i| (id, InterfaceId(i as u16))).ok_or_else(|| {
        let names: Vec<String> = interfaces.iter().map(|i| format!("{name}/{}", i.name)).collect();
        AskError::new(
            "unknown-name",
            format!("there is no interface `{text}`"),
            format!("one of {}", names.join(", ")),
        )
    })
}
