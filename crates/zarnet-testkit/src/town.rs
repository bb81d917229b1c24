//! A town: two devices behind each other, hosts on every link, and a provider.

/// The plan of the town.
pub const TOWN: &str = r#"
[[segment]]
name = "world"
internet = true
routed = [
  { to = "198.51.100.64/29", via = "192.0.2.1" },
  { to = "198.51.100.72/29", via = "192.0.2.9" },
]

[[host]]
name = "desk"
address = "10.0.0.5/24"
gateway = "10.0.0.1"
[[host]]
name = "shop"
address = "10.0.0.6/24"
gateway = "10.0.0.1"
listens = ["80/tcp"]
[[host]]
name = "stray"
address = "10.0.0.7/24"
[[host]]
name = "astray"
address = "10.0.0.8/24"
gateway = "10.0.0.99"
[[host]]
name = "annex"
address = "10.1.0.5/24"
gateway = "10.1.0.1"
[[host]]
name = "sent-on"
address = "10.0.0.9/24"
gateway = "10.0.0.6"

[[device]]
name = "edge"
  [[device.interface]]
  name = "hall"
  realm = "internal"
  address = "10.0.0.1/24"
  [[device.interface]]
  name = "annex"
  realm = "internal"
  address = "10.1.0.1/24"
  [[device.interface]]
  name = "street"
  realm = "external"
  segment = "world"
  address = "192.0.2.1/28"
  services = ["22/tcp"]
  [[device.route]]
  to = "0.0.0.0/0"
  via = "192.0.2.14"
  [[device.rule]]
  name = "shop-in"
  type = "forward"
  external = "street:8080/tcp"
  internal = "shop:80"
  hairpin = "internal"
  [[device.rule]]
  name = "hall-out"
  type = "overload"
  source = "10.0.0.0/24"
  as = "street"
"#;
