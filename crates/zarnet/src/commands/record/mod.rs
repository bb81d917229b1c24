//! `zarnet record STORE LOG...`

mod listen;

use std::time::Duration;

use zarnet_analysis::answer::record::{CheckedAnswer, LogTaken, RecordAnswer};
use zarnet_analysis::play::Watch;
use zarnet_formats::nat_log::{LogColumns, LogForm, LogFormat, LogNames, Noted, read_log};
use zarnet_formats::traffic::{Given, TrafficError};
use zarnet_live::receive_log::now;
use zarnet_store::{Limits, Store, StoreError, StoreWriter};

use super::traffic::{Progress, given};
use crate::args::{Common, RecordArgs};
use crate::exit::{FINE, Failure, NEGATIVE, WRONG_INPUT};
use crate::present::log::{checked_text, recorded_text};
use crate::present::{diagnostic, present};

pub fn run(args: &RecordArgs, common: &Common) -> Result<u8, Failure> {
    if args.check {
        return check(args, common);
    }
    if args.logs.is_empty() && args.listen.is_empty() && args.retain.is_none() {
        let help = "name a log, --listen WHERE, --retain SPAN or --check".to_owned();
        return Err(Failure::wrong("nothing-to-do", "there is no log to record", help));
    }
    let columns = args.columns.as_deref().map(LogColumns::parse).transpose();
    let columns = columns.map_err(|fault| {
        let names: Vec<&str> = LogColumns::names().collect();
        let help = format!("columns are {}, numbered from 1", names.join(", "));
        Failure::wrong(fault.name(), format!("--columns: {fault}"), help)
    })?;
    let logs = given(&args.logs)?;
    let mut names = LogNames::default();
    let mut writer = StoreWriter::open(&args.store, Limits::default(), &mut names)?;
    tell_recovered(&writer, common.quiet);
    let device = args.device.as_deref().map(|name| names.obtain(name));
    let form = LogForm { columns, device };
    let (mut taken, mut errors) = (Vec::new(), Vec::new());
    for log in &logs {
        match take(log, &form, &mut writer, &mut names, common) {
            Ok(log) => taken.push(log),
            Err(Wrong::Log(error)) => errors.push(error),
            Err(Wrong::Store(error)) => return Err(error.into()),
        }
    }
    writer.commit(&names)?;
    let mut removed = 0;
    if let Some(span) = args.retain {
        removed = writer.retain_from(now() - span)?;
        writer.commit(&names)?;
    }
    if !args.listen.is_empty() {
        tell_errors(&errors);
        return listen::run(args, writer, names, common);
    }
    let (recorded, open) = (writer.recorded(), writer.open_count());
    let answer = RecordAnswer { logs: &taken, recorded, open, removed };
    if errors.is_empty() || !taken.is_empty() {
        present(&answer, common, |out, width| recorded_text(out, &answer, width))?;
    }
    tell_errors(&errors);
    Ok(if errors.is_empty() { FINE } else { WRONG_INPUT })
}

fn tell_errors(errors: &[TrafficError]) {
    if !errors.is_empty() {
        diagnostic::traffic(errors, errors.len());
    }
}

fn tell_recovered(writer: &StoreWriter, quiet: bool) {
    let recovered = writer.recorded().recovered;
    if recovered > 0 {
        diagnostic::note(
            quiet,
            &format!(
                "{recovered} events of the journal were written: recording had been broken off"
            ),
        );
    }
}

/// Why a log was not taken.
enum Wrong {
    Log(TrafficError),
    Store(StoreError),
}

/// Takes a log into a store.
fn take(
    log: &Given,
    form: &LogForm,
    writer: &mut StoreWriter,
    names: &mut LogNames,
    common: &Common,
) -> Result<LogTaken, Wrong> {
    let (mut noted, mut span, mut failure) = (Noted::default(), None::<(i64, i64)>, None);
    let progress = Progress::of("events", common.quiet);
    let read = read_log(log, form, names, &mut noted, |event, names| {
        let (first, last) = span.unwrap_or((event.at, event.at));
        span = Some((first.min(event.at), last.max(event.at)));
        progress.step(1);
        if failure.is_none() {
            failure = writer.take(&event, names).err();
        }
    });
    if let Some(error) = failure {
        return Err(Wrong::Store(error));
    }
    let read =
        read.map_err(|fault| Wrong::Log(TrafficError { input: log.name(), line: None, fault }))?;
    writer.end_of_log(names);
    noted.missing.iter().for_each(|missing| writer.lose(missing, names));
    let format = match read.format {
        LogFormat::Ipfix => "ipfix",
        LogFormat::Syslog => "syslog",
        LogFormat::Csv => "csv",
    };
    let cut = read.cut.map(|fault| fault.to_string());
    Ok(LogTaken { name: log.name().display().to_string(), format, span, noted, cut })
}

fn check(args: &RecordArgs, common: &Common) -> Result<u8, Failure> {
    let store = Store::open(&args.store)?;
    let progress = Progress::of("octets", common.quiet);
    let checked = store.check(|octets| progress.step(octets))?;
    drop(progress);
    let answer = CheckedAnswer(&checked);
    present(&answer, common, |out, _| checked_text(out, &checked))?;
    Ok(if checked.faults.is_empty() { FINE } else { NEGATIVE })
}

/// How long is waited for the next piece at most.
const LOOK: Duration = Duration::from_millis(200);
