//! `zarnet watch PLAN URL`: a device's table as it changes.

use std::collections::BTreeMap;
use std::io::IsTerminal;
use std::sync::Arc;
use std::sync::mpsc::{Receiver, sync_channel};
use std::time::Duration;

use serde_json::Value;
use zarnet_analysis::answer::watch::WatchAnswer;
use zarnet_analysis::watch::{Predicted, Watching};
use zarnet_core::plan::DeviceId;
use zarnet_core::predict::{Options, predict};
use zarnet_formats::ietf_nat::Row;
use zarnet_formats::plan::Loaded;
use zarnet_live::client::{ClientError, Device};

use super::{of_client, open};
use crate::args::{Common, Format, Watch};
use crate::commands::traffic::{attempts, given, moment, open as open_traffic};
use crate::commands::{only_device, plan};
use crate::exit::{FINE, Failure};
use crate::present::live::screen::Screen;
use crate::present::live::watch::text;
use crate::present::{View, present};

/// What a device tells at one look.
struct Look {
    rows: Vec<Row>,
    /// First packets that were refused, by counter.
    refused: BTreeMap<String, u64>,
}

pub fn run(args: &Watch, common: &Common) -> Result<u8, Failure> {
    let loaded = plan(&args.plan, common)?;
    let id = only_device(&loaded.plan, args.device.as_deref())?;
    let is_once = args.once || common.format != Format::Text;
    if !is_once && !std::io::stdout().is_terminal() {
        let help = "--once looks once, and --format json is for scripts".to_owned();
        return Err(Failure::wrong("not-a-terminal", "there is no terminal to draw on", help));
    }
    let predicted = predicted(args, &loaded, id, common)?;
    let mut device = open(&args.url, &args.access, common.quiet)?;
    let name = loaded.plan.devices[id.index()].name.clone();
    let mut watching = Watching::default();
    if is_once {
        let look = look(&mut device).map_err(of_client)?;
        watching.look((&loaded.plan, id), &look.rows, &look.refused, predicted.as_ref());
        let answer = WatchAnswer { device: &name, watching: &watching };
        present(&answer, common, |out, width| {
            text(&answer, View { width, rows: args.rows, verbose: common.verbose }, out)
        })?;
        return Ok(FINE);
    }
    let looks = keep_looking(device, args.every);
    let screen = Screen { device: name, url: args.url.clone(), every: args.every };
    screen.run(&looks, |look: &Look| {
        watching.look((&loaded.plan, id), &look.rows, &look.refused, predicted.as_ref());
        watching.clone()
    })?;
    Ok(FINE)
}

/// What traffic makes by prediction, if that is wanted.
fn predicted(
    args: &Watch,
    loaded: &Loaded,
    id: DeviceId,
    common: &Common,
) -> Result<Option<Predicted>, Failure> {
    if args.during.is_empty() {
        return Ok(None);
    }
    let traffic = open_traffic(&given(&args.during)?, loaded, &args.reader, common)?;
    let shared = Arc::new(loaded.plan.clone());
    let moment = moment(&args.at, &shared, &traffic, common)?;
    let options = Options { moment, seed: common.seed, sessions: false, ..Options::default() };
    let prediction = attempts(&traffic, options, common.quiet, |items, options| {
        predict(shared.clone(), items, traffic.events(), options)
    })?;
    Ok(Some(Predicted::of(&prediction, id)))
}

/// Asks a device once.
fn look(device: &mut Device) -> Result<Look, ClientError> {
    let rows = device.table()?;
    let mut refused: BTreeMap<String, u64> = BTreeMap::new();
    for (_, statistics) in device.statistics()? {
        let counters = statistics.get("traffic-statistics").and_then(Value::as_object);
        for (name, value) in counters.into_iter().flatten() {
            let number = value.as_str().and_then(|v| v.parse::<u64>().ok());
            if let Some(number) = number.filter(|_| name.starts_with("dropped-")) {
                *refused.entry(name.clone()).or_default() += number;
            }
        }
    }
    Ok(Look { rows, refused })
}

/// Asks a device again and again, on a thread of its own.
fn keep_looking(mut device: Device, every: Duration) -> Receiver<Result<Look, ClientError>> {
    let (sender, receiver) = sync_channel(1);
    std::thread::spawn(move || {
        loop {
            if sender.send(look(&mut device)).is_err() {
                return;
            }
            std::thread::sleep(every);
        }
    });
    receiver
}
