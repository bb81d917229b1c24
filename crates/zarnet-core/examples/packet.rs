//! One device, packet by packet: what an overload makes of two hosts with one source port.
//!
//! `cargo run -p zarnet-core --example packet`

use std::error::Error;
use std::net::IpAddr;
use std::path::Path;

use zarnet_core::device::{Device, Outcome};
use zarnet_core::net::{Endpoint, Instant, Packet, Protocol};
use zarnet_core::network::taken;
use zarnet_core::plan::InterfaceId;
use zarnet_formats::plan::from_text;

const PLAN: &str = r#"
[[device]]
name = "edge"

  [[device.interface]]
  name = "floor"
  realm = "internal"
  address = "10.20.0.1/24"

  [[device.interface]]
  name = "street"
  realm = "external"
  address = "203.0.113.2/27"

  [[device.route]]
  to = "0.0.0.0/0"
  via = "203.0.113.1"

  [[device.rule]]
  name = "out"
  type = "overload"
  as = "street"
"#;

fn endpoint(address: &str, port: u16) -> Result<Endpoint, Box<dyn Error>> {
    Ok(Endpoint::new(address.parse::<IpAddr>()?, port))
}

/// Runs the example.
pub fn main() -> Result<(), Box<dyn Error>> {
    let loaded =
        from_text(Path::new("edge.toml"), PLAN.to_owned()).map_err(|e| format!("{e:?}"))?;
    let plan = &loaded.plan;
    let mut edge = Device::new(&plan.devices[0], &taken(plan), 0);
    let server = endpoint("198.51.100.80", 443)?;
    for (second, host) in [(0, "10.20.0.11"), (1, "10.20.0.12")] {
        let packet = Packet::first(Protocol::TCP, endpoint(host, 50_000)?, server);
        // the device has no clock: the instant is an argument, in nanoseconds
        let now = Instant(second * 1_000_000_000);
        match edge.receive(now, InterfaceId(0), packet) {
            Outcome::Forwarded(out) => println!("{} leaves as {}", packet.ends, out.packet.ends),
            other => println!("{}: {other:?}", packet.ends),
        }
    }
    Ok(())
}
