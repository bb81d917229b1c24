//! Plans with very many rules or devices.

use super::cases::{parts, rule};

/// An address by its position behind a first one.
fn address(first: u32, position: usize) -> std::net::Ipv4Addr {
    (first + position as u32).into()
}

/// Where internal hosts of the rules begin: 10.65.0.0.
const INSIDE: u32 = 0x0a41_0000;
/// Where external addresses of the rules begin: 198.19.0.0.
const OUTSIDE: u32 = 0xc613_0000;

fn overload(i: usize) -> String {
    let keys =
        format!("type = \"overload\"\n  source = \"{}\"\n  as = \"block\"", address(INSIDE, i));
    rule(format!("r{i}"), &keys)
}

fn fixed(i: usize) -> String {
    let (inside, outside) = (address(INSIDE, i), address(OUTSIDE, i));
    rule(
        format!("r{i}"),
        &format!("type = \"static\"\n  internal = \"{inside}\"\n  external = \"{outside}\""),
    )
}

/// A thousand on each address.
fn forward(i: usize) -> String {
    let (inside, outside) = (address(INSIDE, i), address(OUTSIDE, 0xc000 + i / 1000));
    let keys = format!(
        "type = \"forward\"\n  external = \"{outside}:{}/tcp\"\n  internal = \"{inside}:443\"",
        1024 + i % 1000
    );
    rule(format!("r{i}"), &keys)
}

/// The edge with so many rules before its own, each for one host.
pub fn overloads(count: usize) -> String {
    parts(&(0..count).map(overload).collect::<String>())
}

pub fn statics(count: usize) -> String {
    parts(&(0..count).map(fixed).collect::<String>())
}

pub fn forwards(count: usize) -> String {
    parts(&(0..count).map(forward).collect::<String>())
}

/// One kind after the other.
pub fn mixed(count: usize) -> String {
    let kinds: [fn(usize) -> String; 3] = [overload, fixed, forward];
    let one = |i: usize| kinds[i % 3](i);
    parts(&(0..count).map(one).collect::<String>())
}

/// The plan with the rule in the middle disabled.
pub fn with_one_disabled(plan: &str, count: usize) -> String {
    let name = format!("  name = \"r{}\"\n", count / 2);
    plan.replacen(&name, &format!("{name}  enabled = false\n"), 1)
}

/// So many edges side by side, each with ten hosts.
pub fn devices(count: usize) -> String {
    let mut text = String::from("[[segment]]\nname = \"internet\"\ninternet = true\n");
    for i in 0..count {
        let (inside, outside) = (address(0x0a00_0000, i * 16), address(0xc612_0000, i * 4));
        text += &format!(
            "[[device]]\nname = \"d{i}\"\n  [[device.interface]]\n  name = \"in\"\n  realm = \
             \"internal\"\n  address = \"{}/28\"\n  [[device.interface]]\n  name = \"out\"\n  \
             realm = \"external\"\n  segment = \"internet\"\n  address = \"{}/30\"\n  \
             [[device.route]]\n  to = \"0.0.0.0/0\"\n  via = \"{}\"\n  [[device.rule]]\n  name = \
             \"out\"\n  type = \"overload\"\n  as = \"out\"\n",
            address(inside.into(), 1),
            address(outside.into(), 2),
            address(outside.into(), 1),
        );
        for host in 2..12 {
            text += &format!(
                "[[host]]\nname = \"h{i}-{host}\"\naddress = \"{}/28\"\n",
                address(inside.into(), host)
            );
        }
    }
    text
}
