//! `zarnet whose STORE ENDPOINT --at TIME`

use std::collections::HashMap;
use std::net::IpAddr;
use std::time::Duration;

use zarnet_analysis::answer::whose::WhoseAnswer;
use zarnet_core::net::{Protocol, parse_span};
use zarnet_store::{Asked, Question, Store};

use super::plan;
use crate::args::{Common, WhoseArgs};
use crate::exit::{FINE, Failure, NEGATIVE};
use crate::present::log::whose_text;
use crate::present::{View, present};

pub fn run(args: &WhoseArgs, common: &Common) -> Result<u8, Failure> {
    let (asked, protocol) = match (&args.endpoint, args.host) {
        (Some(endpoint), _) => external(endpoint)?,
        (None, host) => (Asked::Host(host.unwrap_or(IpAddr::from([0; 4]))), None),
    };
    let between = between(args)?;
    let within = args.within.as_deref().map(within).transpose()?;
    let hosts = match &args.plan {
        Some(path) => hosts(&plan(path, common)?.plan),
        None => HashMap::new(),
    };
    let store = Store::open(&args.store)?;
    let device = args.device.clone();
    let mut question = Question { asked, between, within: within.unwrap_or(0), protocol, device };
    let mut finding = store.look_up(&question)?;
    // clocks that were off when the logs came were so then, too
    let off = finding.clocks.values().map(|(least, most)| least.abs().max(most.abs())).max();
    if let Some(off) = off.filter(|off| within.is_none() && *off > 0) {
        question.within = off;
        finding = store.look_up(&question)?;
    }
    let answer = WhoseAnswer { question: &question, finding: &finding, hosts };
    present(&answer, common, |out, width| {
        whose_text(out, &answer, View { width, rows: args.rows, verbose: common.verbose })
    })?;
    Ok(if finding.found.is_empty() { NEGATIVE } else { FINE })
}

/// Names of hosts by their addresses.
fn hosts(plan: &zarnet_core::plan::Plan) -> HashMap<IpAddr, String> {
    plan.hosts.iter().map(|host| (host.address, host.name.clone())).collect()
}

/// An external address, with or without port and protocol.
fn external(text: &str) -> Result<(Asked, Option<Protocol>), Failure> {
    let wrong = || {
        let help = "write 203.0.113.2, 203.0.113.2:49201 or 203.0.113.2:49201/tcp".to_owned();
        Failure::wrong("bad-endpoint", format!("`{text}` is no external end"), help)
    };
    let (end, protocol) = match text.split_once('/') {
        Some((end, protocol)) => {
            (end, Some(protocol.to_ascii_lowercase().parse().map_err(|_| wrong())?))
        }
        None => (text, None),
    };
    if let Ok(address) = end.parse() {
        return Ok((Asked::External(address, None), protocol));
    }
    let end: std::net::SocketAddr = end.parse().map_err(|_| wrong())?;
    Ok((Asked::External(end.ip(), Some(end.port())), protocol))
}

/// From when until when, in milliseconds since 1970.
fn between(args: &WhoseArgs) -> Result<(i64, i64), Failure> {
    match (&args.at, &args.during) {
        (Some(at), _) => {
            let at = moment("--at", at)?;
            Ok((at, at))
        }
        (None, Some(during)) => match during.split_once("..") {
            Some((from, until)) => {
                let (from, until) = (moment("--during", from)?, moment("--during", until)?);
                if until < from {
                    let message = format!("--during {during} ends before it begins");
                    return Err(Failure::wrong("bad-time", message, None));
                }
                Ok((from, until))
            }
            None => day(during),
        },
        (None, None) => Ok((i64::MIN, i64::MAX)),
    }
}

/// A day, as it is in UTC.
fn day(text: &str) -> Result<(i64, i64), Failure> {
    const DAY: i64 = 86_400_000;
    let day: Option<jiff::civil::Date> = text.parse().ok().filter(|_| text.len() == 10);
    let begins = day.and_then(|day| day.to_zoned(jiff::tz::TimeZone::UTC).ok());
    let begins = begins.map(|begins| begins.timestamp().as_millisecond()).ok_or_else(|| {
        let help = "write a day (2026-08-01), or two moments with .. between them".to_owned();
        Failure::wrong("bad-time", format!("--during: `{text}` is no day"), help)
    })?;
    Ok((begins, begins + DAY - 1))
}

/// A moment with its offset: without one, an hour of every year would be two.
fn moment(option: &str, text: &str) -> Result<i64, Failure> {
    let at: Result<jiff::Timestamp, _> = text.trim().parse();
    at.map(jiff::Timestamp::as_millisecond).map_err(|_| {
        let help = "write a time with its offset: 2026-08-01T08:45:00Z, 2026-08-01T10:45:00+02:00";
        let message = format!("{option}: `{text}` is no moment");
        Failure::wrong("bad-time", message, help.to_owned())
    })
}

fn within(text: &str) -> Result<i64, Failure> {
    let span: Result<Duration, _> = parse_span(text);
    let milliseconds = span.ok().and_then(|s| i64::try_from(s.as_millis()).ok());
    milliseconds.ok_or_else(|| {
        let help = "write a length of time: 2s, 500ms".to_owned();
        Failure::wrong("bad-time", format!("--within: `{text}` is no length of time"), help)
    })
}
