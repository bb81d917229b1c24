//! Load profiles.

use std::net::IpAddr;

use zarnet_core::net::{AddressRange, AddressSet, Instant, NotationError, Protocol};
use zarnet_core::plan::field::Keys;
use zarnet_core::plan::{Interface, PlanError};
use zarnet_core::traffic::{Crowd, Length, Load, Party};

use super::super::fields::ending;
use super::{Setting, needed_time, time};
use crate::toml_reader::{Reader, Text};
use crate::traffic::Fault;

/// More flows a second make no sense.
const FASTEST: f64 = 1e7;

/// No profile has more flows.
const MOST: f64 = 1e10;

/// Reads a profile; `number`: which one of its file it is.
pub(super) fn read(r: Reader<'_>, setting: &Setting<'_>, number: u64) -> Option<Load> {
    let needed = |key: &'static str| needed_time(&r, key, setting);
    let (start, lasts) = (time(&r, "start", setting).unwrap_or(0), needed("lasts"));
    let sources = crowd(&r, "sources", setting, true);
    let destinations = crowd(&r, "destination", setting, false);
    let protocol = r.needed("protocol").and_then(|t| {
        let wrong = |e: NotationError| r.report(e.into(), t.place);
        t.value.parse::<Protocol>().map_err(wrong).ok()
    });
    let port = r.number("destination-port");
    let in_range = port.as_ref().map(|p| u16::try_from(p.value).ok());
    if let (Some(None), Some(port)) = (in_range, &port) {
        r.report(NotationError::Port(port.value.to_string()).into(), port.place);
    }
    let destination_port = in_range.flatten();
    if let (Some(protocol), None) = (protocol.filter(|p| p.has_ports()), &port) {
        setting.refuse(Fault::PortMissing(protocol.to_string()), r.place);
    }
    if let (Some(protocol), Some(port)) = (protocol.filter(|p| !p.has_ports()), &port) {
        setting.refuse(Fault::PortNotPossible(protocol.to_string()), port.place);
    }
    let rate = number_of(
        &r,
        "rate",
        |rate| rate > 0.0 && rate <= FASTEST,
        "a number of flows a second above 0",
    );
    let each_lasts = match r.is_table("each-lasts") {
        true => r
            .tables("each-lasts", "a distribution")
            .into_iter()
            .next()
            .and_then(|d| length(d, setting)),
        false => Some(Length::Fixed(time(&r, "each-lasts", setting).unwrap_or(0))),
    };
    let ending = r.text("ends").and_then(|text| {
        ending(&text.value).map_err(|fault| setting.refuse(fault, text.place)).ok()
    });
    let seed = match r.number("seed") {
        // profiles that are alike must not send at the same times
        None => setting.seed.wrapping_add(number),
        Some(seed) => u64::try_from(seed.value).unwrap_or_else(|_| {
            let (key, value, valid) =
                ("seed", seed.value.to_string(), "a whole number from 0".into());
            r.report(PlanError::UnknownValue { key, value, near: None, valid }, seed.place);
            0
        }),
    };
    let load = lasts.zip(sources).zip(destinations).zip(protocol).zip(rate).zip(each_lasts);
    let load = load.map(|(((((lasts, sources), destinations), protocol), rate), each_lasts)| {
        let start = Instant(start);
        Load {
            start,
            lasts,
            sources,
            destinations,
            protocol,
            destination_port,
            rate,
            each_lasts,
            ending,
            seed,
        }
    });
    let flows = load.as_ref().map_or(0.0, |l| l.rate * l.lasts as f64 / 1e9);
    if flows > MOST {
        setting.refuse(
            Fault::Scenario(format!(
                "{flows:.0} flows are more than a profile may have ({MOST:.0})"
            )),
            r.place,
        );
    }
    r.finish();
    load
}

/// Hosts by name, addresses and groups of addresses. Of `senders` that stand for many, those are
/// left out that no host can have: network and broadcast of an interface's prefix, and what the
/// device itself has.
fn crowd(r: &Reader<'_>, key: &'static str, setting: &Setting<'_>, senders: bool) -> Option<Crowd> {
    let texts = match r.texts(key) {
        Some(texts) => texts,
        None => {
            r.needed(key);
            return None;
        }
    };
    let (mut named, mut addresses) = (Vec::new(), AddressSet::default());
    for text in &texts {
        match member(text, setting) {
            Ok((party, set)) => {
                named.extend(party);
                let one = set.single().is_some();
                addresses.extend(&set);
                if senders && !one {
                    not_hosts(setting).for_each(|a| addresses.remove(AddressRange::one(a)));
                }
            }
            Err(fault) => setting.refuse(fault, text.place),
        }
    }
    let crowd = Crowd::new(named, addresses);
    if crowd.count() == 0 && !texts.is_empty() {
        return None; // told already
    }
    if crowd.count() == 0 {
        let (value, valid) = ("nothing".into(), "addresses, groups and host names".into());
        r.report(PlanError::UnknownValue { key, value, near: None, valid }, r.place);
        return None;
    }
    Some(crowd)
}

fn not_hosts(setting: &Setting<'_>) -> impl Iterator<Item = IpAddr> {
    let interfaces = setting.plan.devices.iter().flat_map(|d| &d.interfaces);
    let of = |i: &Interface| {
        let ends = i.addresses.iter().flat_map(|a| a.1.reserved());
        i.own().chain(ends).collect::<Vec<_>>()
    };
    interfaces.flat_map(of).collect::<Vec<_>>().into_iter()
}

fn member(text: &Text, setting: &Setting<'_>) -> Result<(Option<Party>, AddressSet), Fault> {
    if let Some(set) = setting.plan.groups.get(text.value.trim()) {
        return Ok((None, set.clone()));
    }
    if let Ok((range, _)) = AddressRange::parse(text.value.trim())
        && range.count() > 1
    {
        return Ok((None, range.into()));
    }
    match setting.names.party(text.value.trim())? {
        Party::Address(address) => Ok((None, AddressRange::one(address).into())),
        party @ Party::Host(_) | party @ Party::Device(_) | party @ Party::Interface(..) => {
            Ok((Some(party), AddressSet::default()))
        }
    }
}

fn length(r: Reader<'_>, setting: &Setting<'_>) -> Option<Length> {
    let needed = |key: &'static str| needed_time(&r, key, setting);
    let kind = r.needed("distribution")?;
    let positive =
        |key| number_of(&r, key, |n| n > 0.0 && n <= 100.0, "a number above 0, up to 100");
    let length = match kind.value.as_str() {
        "uniform" => {
            needed("least").zip(needed("most")).map(|(a, b)| Length::Uniform(a.min(b), a.max(b)))
        }
        "exponential" => needed("mean").map(|mean| Length::Exponential(mean.max(1))),
        "log-normal" => {
            needed("median").zip(positive("sigma")).map(|(m, s)| Length::LogNormal(m, s))
        }
        "pareto" => {
            needed("least").zip(positive("shape")).map(|(l, s)| Length::Pareto(l.max(1), s))
        }
        value => {
            let (key, valid) =
                ("distribution", "`uniform`, `exponential`, `log-normal`, `pareto`".into());
            let near = zarnet_core::plan::nearest(
                value,
                ["uniform", "exponential", "log-normal", "pareto"].into_iter(),
            );
            r.report(PlanError::UnknownValue { key, value: value.into(), near, valid }, kind.place);
            None
        }
    };
    r.finish();
    length
}

fn number_of(
    r: &Reader<'_>,
    key: &'static str,
    holds: impl Fn(f64) -> bool,
    valid: &str,
) -> Option<f64> {
    let text = r.needed_scalar(key)?;
    let number = text.value.trim().parse::<f64>().ok().filter(|n| n.is_finite() && holds(*n));
    if number.is_none() {
        let (value, valid) = (text.value.clone(), valid.into());
        r.report(PlanError::UnknownValue { key, value, near: None, valid }, text.place);
    }
    number
}
