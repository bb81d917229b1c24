//! `zarnet stand-in PLAN`: a simulated device on the network, until a signal ends it.

use std::io::Write;
use std::sync::Arc;
use std::time::Duration;

use zarnet_core::limits;
use zarnet_core::plan::Plan;
use zarnet_formats::ietf_nat::ModuleForm;
use zarnet_formats::plan::Loaded;
use zarnet_live::send_log::LogSender;
use zarnet_live::stand_in::{
    Listening, LogSetup, Misbehave, Pace, Playing, Saving, Setup, StandIn,
};

use crate::args::{Common, Save, StandInArgs};
use crate::commands::log::{bad_address, logged_as};
use crate::commands::traffic::{given, open};
use crate::commands::{only_device, plan};
use crate::exit::{FINE, Failure};
use crate::files;
use crate::present::live::stand_in::{Started, text};
use crate::present::{diagnostic, present};

pub fn run(args: &StandInArgs, common: &Common) -> Result<u8, Failure> {
    let loaded = plan(&args.plan, common)?;
    let stand_in = start(args, &loaded, common)?;
    let only = args.device.as_deref().map(|n| only_device(&loaded.plan, Some(n))).transpose()?;
    let devices: Vec<&Listening> = stand_in
        .devices
        .iter()
        .enumerate()
        .filter(|(i, _)| only.is_none_or(|o| o.index() == *i))
        .map(|d| d.1)
        .collect();
    if let Some(path) = &args.access {
        files::write_secret(path, access(&devices).as_bytes(), args.force)?;
    }
    if let Some(path) = &args.certificate {
        let pem: String = devices.iter().map(|d| d.certificate.as_str()).collect();
        files::write_new(path, pem.as_bytes(), args.force)?;
    }
    let access = args.access.as_deref().map(|p| p.display().to_string());
    let answer = Started::new(&devices, access);
    present(&answer, common, |out, width| text(&answer, out, width))?;
    std::io::stdout().flush()?;
    wait(&stand_in, common.quiet);
    Ok(FINE)
}

/// Waits for the signal that ends it; tells once if the traffic cannot be played on.
fn wait(stand_in: &StandIn, quiet: bool) {
    let mut told = false;
    loop {
        std::thread::sleep(Duration::from_secs(1));
        if !told && let Some(halted) = stand_in.halted() {
            told = true;
            if !quiet {
                let help = "the device goes on without it".to_owned();
                diagnostic::warn("traffic-halted", &halted, Some(&help));
            }
        }
    }
}

/// Starts the devices of a plan.
fn start(args: &StandInArgs, loaded: &Loaded, common: &Common) -> Result<StandIn, Failure> {
    let playing = match args.play.is_empty() {
        true => None,
        false => Some(Playing(open(&given(&args.play)?, loaded, &args.reader, common)?)),
    };
    let begins_at = match &playing {
        Some(Playing(traffic)) => traffic.time(&args.at).map_err(|fault| {
            let help = "write a time (90, 2m30s)".to_owned();
            Failure::wrong(fault.name(), format!("--at: {fault}"), help)
        })?,
        None => zarnet_core::net::Instant::ZERO,
    };
    let begins = match args.reader.begins {
        Some(begins) => begins,
        None => {
            let back = jiff::SignedDuration::from_nanos(begins_at.0.min(i64::MAX as u64) as i64);
            jiff::Timestamp::now() - back
        }
    };
    let form = if args.without_policy { ModuleForm::Standard } else { ModuleForm::WithPolicy };
    let saving = match (args.save, form) {
        (Some(Save::WithEdit), _) | (None, ModuleForm::Standard) => Saving::WithEdit,
        (Some(Save::Explicit), _) | (None, ModuleForm::WithPolicy) => Saving::Explicit,
    };
    warn_of_open_address(args);
    let setup = Setup {
        plan: Arc::new(loaded.plan.clone()),
        playing,
        pace: Pace::Times(args.speed),
        at: begins_at,
        begins,
        form,
        saving,
        seed: common.seed,
        log: log_setup(args, loaded)?,
    };
    let misbehave = Misbehave::new(args.misbehave.clone(), args.one_in, common.seed);
    check_size(&loaded.plan)?;
    StandIn::start(setup, args.listen, misbehave).map_err(|error| {
        let help = "--listen 127.0.0.1:0 takes a port that is free".to_owned();
        Failure::wrong("cannot-listen", format!("{}: {error}", args.listen), help)
    })
}

/// Where the devices send their translation log, if that is asked for.
fn log_setup(args: &StandInArgs, loaded: &Loaded) -> Result<Option<LogSetup>, Failure> {
    let Some(to) = &args.log_to else { return Ok(None) };
    let all_as = logged_as(args.log_as, &loaded.plan)?;
    let to = LogSender::connect(to, args.log_syslog, 0)
        .map_err(|error| bad_address("--log-to", to, &error))?;
    Ok(Some(LogSetup { all_as, to }))
}

/// Each device has a port of its own.
fn check_size(plan: &Plan) -> Result<(), Failure> {
    match plan.devices.len() {
        0 => Err(Failure::wrong("no-device", "the plan has no device", None)),
        n if n > limits::STAND_IN_DEVICES => {
            let message =
                format!("{n} devices; a stand-in has {} at most", limits::STAND_IN_DEVICES);
            Err(Failure::wrong("too-many", message, None))
        }
        _ => Ok(()),
    }
}

fn warn_of_open_address(args: &StandInArgs) {
    if !args.listen.ip().is_loopback() {
        let message = format!("{} can be reached from other machines", args.listen.ip());
        let help = "they need the token of the access file".to_owned();
        diagnostic::warn("reachable-by-others", &message, Some(&help));
    }
}

/// The access file of some devices.
pub fn access(devices: &[&Listening]) -> String {
    let mut text = String::from("# How the stand-in is reached, as long as it runs.\n");
    for device in devices {
        if devices.len() > 1 {
            text.push_str(&format!("\n[[device]]\nname = \"{}\"\n", device.device));
        }
        text.push_str(&format!(
            "url = \"{}\"\npin = \"{}\"\ntoken = \"{}\"\n",
            device.url(),
            device.fingerprint,
            device.token
        ));
    }
    text
}
