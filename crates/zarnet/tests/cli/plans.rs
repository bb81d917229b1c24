//! Plans, lists and scenarios that several tests use.

pub(crate) const HELD: &str = "protocol,internal,internal-port,external,external-port
any,10.62.32.11,,203.0.113.73,
any,10.62.32.12,,203.0.113.74,
udp,10.62.64.20,50000,203.0.113.70,20480
udp,10.62.64.20,50001,203.0.113.70,20481
udp,10.62.64.21,50000,203.0.113.70,20482
";

/// More than any machine has room for.
pub(crate) const FLOOD: &str = r#"
[[load]]
lasts = "15m"
sources = "hall"
destination = "198.51.100.80"
protocol = "udp"
destination-port = 53
rate = RATE
each-lasts = "2h"
"#;

/// Rules, policy and filter entries that others hide, and doors that are too wide.
pub(crate) const HIDDEN: &str = r#"
[[segment]]
name = "internet"
internet = true

[check]
deny = ["remote-administration-open"]

[[host]]
name = "web"
address = "10.0.0.20/24"
gateway = "10.0.0.1"
listens = ["443/tcp"]

[[host]]
name = "desk"
address = "10.0.0.30/24"
gateway = "10.0.0.1"

[[device]]
name = "edge"
behaviour = { preset = "bcp", filtering = "address-dependent" }

  [[device.interface]]
  name = "floor"
  realm = "internal"
  address = "10.0.0.1/24"
  ingress-acl = "in"

  [[device.interface]]
  name = "uplink"
  realm = "external"
  segment = "internet"
  address = "192.0.2.1/28"
  services = ["22/tcp"]

  [[device.route]]
  to = "0.0.0.0/0"
  via = "192.0.2.14"

  [[device.acl]]
  name = "in"
  entries = [{ drop = "25/tcp" }, { accept = "any" }, { drop = "23/tcp" }]

  [[device.policy]]
  from = "internal"
  into = "external"
  accept = "any"

  [[device.policy]]
  from = "internal"
  into = "external"
  drop = "53/udp"

  [[device.pool]]
  name = "spare"
  addresses = "192.0.2.8"

  [[device.rule]]
  name = "everybody"
  type = "overload"
  as = "uplink"
  hairpin = "internal"

  [[device.rule]]
  name = "desks"
  type = "overload"
  source = "10.0.0.30"
  as = "192.0.2.6"

  [[device.rule]]
  name = "screens"
  type = "forward"
  external = "uplink:59010/tcp"
  internal = "desk:5901"

  [[device.rule]]
  name = "pages"
  type = "forward"
  external = "uplink:8080/tcp"
  internal = "web:8080"

  [[device.rule]]
  name = "old"
  type = "forward"
  external = "uplink:8081/tcp"
  internal = "10.0.0.77:80"
  enabled = false

  [[device.rule]]
  name = "machine"
  type = "static"
  internal = "10.0.0.40"
  external = "192.0.2.5"
"#;

pub(crate) const RISKY: &str = r#"
[[segment]]
name = "internet"
internet = true
routed = [{ to = "198.51.100.16/30", via = "192.0.2.1" }]

[[device]]
name = "edge"
behaviour = "bcp"
timers = { udp-timeout = 30 }

  [[device.interface]]
  name = "floor"
  realm = "internal"
  address = "10.0.0.1/24"

  [[device.interface]]
  name = "uplink"
  realm = "external"
  segment = "internet"
  address = "192.0.2.1/28"

  [[device.interface]]
  name = "spare"
  address = "10.9.0.1/24"

  [[device.route]]
  to = "0.0.0.0/0"
  via = "192.0.2.14"

  [[device.acl]]
  name = "forgotten"
  entries = [{ drop = "any" }]

  [[device.pool]]
  name = "lines"
  addresses = ["192.0.2.0/29"]

  [[device.rule]]
  name = "offices"
  type = "pool"
  source = "10.0.0.128/25"
  as = "lines"

  [[device.rule]]
  name = "all"
  type = "overload"
  as = "uplink"
  into = "exterior"

  [[device.rule]]
  name = "mail"
  type = "static"
  internal = "10.0.0.130"
  external = "203.0.113.77"
"#;

/// An edge whose outside address is assigned to it.
pub(crate) const LEASED: &str = r#"
[[segment]]
name = "internet"
internet = true

[[host]]
name = "server"
address = "10.0.0.9/24"
gateway = "10.0.0.1"

[[device]]
name = "edge"
behaviour = { port-assignment = "sequential" }
timers = { per-port = { "53/udp" = 10 } }

  [[device.interface]]
  name = "floor"
  realm = "internal"
  address = "10.0.0.1/24"

  [[device.interface]]
  name = "uplink"
  realm = "external"
  segment = "internet"
  address = "192.0.2.2/28"
  lease = true

  [[device.route]]
  to = "0.0.0.0/0"
  via = "192.0.2.1"

  [[device.rule]]
  name = "door"
  type = "forward"
  external = "uplink:8022/tcp"
  internal = "10.0.0.9:22"

  [[device.rule]]
  name = "all"
  type = "overload"
  as = "uplink"
"#;

/// The address changes at 2m, another plan takes over at 5m, and a rule that only that one has is
/// disabled at 7m.
pub(crate) const DAY: &str = r#"
[[flow]]
start = 0
protocol = "tcp"
source = "10.0.0.5"
destination = "198.51.100.80"
destination-port = 443
lasts = "1h"
[[flow]]
start = "3m"
protocol = "tcp"
source = "10.0.0.5"
destination = "198.51.100.80"
destination-port = 443
lasts = "1h"
[[flow]]
start = "4m"
protocol = "tcp"
source = "198.51.100.7"
destination = "192.0.2.3"
destination-port = 8022
lasts = "1h"
[[flow]]
start = "6m"
protocol = "tcp"
source = "198.51.100.7"
destination = "192.0.2.3"
destination-port = 9022
lasts = "1h"
[[flow]]
start = "7m30s"
protocol = "tcp"
source = "198.51.100.8"
destination = "192.0.2.3"
destination-port = 9022
[[event]]
at = "7m"
do = "disable"
rule = "gate"
[[event]]
at = "2m"
do = "lease"
interface = "uplink"
address = "192.0.2.3/28"
[[event]]
at = "5m"
do = "plan"
file = "after.toml"
"#;

pub(crate) const BAD_DAY: &str = r#"
[[load]]
lasts = "1m"
sources = ["10.0.0.0/24", "nobody"]
destination = "198.51.100.80"
protocol = "tcp"
rate = 0
each-lasts = { distribution = "normal", mean = "1s" }
seed = -1
[[load]]
lasts = "1h"
sources = "10.0.0.0/28"
destination = "198.51.100.80"
protocol = "icmp"
destination-port = 7
rate = 1e7
[[event]]
at = "1m"
do = "lease"
interface = "floor"
address = "10.0.0.2"
[[event]]
at = "1m"
do = "plan"
file = "nowhere.toml"
[[event]]
at = "-1"
do = "restart"
[[event]]
at = 1
do = "disable"
rule = "gate"
"#;

/// The same three oversights on every device.
pub(crate) fn several() -> String {
    let edge = |n: u8| {
        format!(
            r#"
[[host]]
name = "desk-{n}"
address = "10.{n}.0.9/24"

[[device]]
name = "edge-{n}"
timers = {{ udp-timeout = "30s" }}

  [[device.interface]]
  name = "floor"
  realm = "internal"
  address = "10.{n}.0.1/24"

  [[device.interface]]
  name = "spare"
  address = "10.{n}.9.1/24"

  [[device.interface]]
  name = "uplink"
  realm = "external"
  segment = "internet"
  address = "203.0.113.{n}/28"

  [[device.route]]
  to = "0.0.0.0/0"
  via = "203.0.113.14"

  [[device.rule]]
  name = "floor-out"
  type = "overload"
  as = "uplink"
"#
        )
    };
    let world = "[[segment]]\nname = \"internet\"\ninternet = true\n".to_owned();
    (1..=9).fold(world, |plan, n| plan + &edge(n))
}
