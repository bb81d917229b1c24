//! `zarnet compare PLAN TRAFFIC... --observed FILE`

use std::cell::RefCell;
use std::sync::Arc;

use zarnet_analysis::answer::compare::CompareAnswer;
use zarnet_analysis::compare::compare;
use zarnet_core::limits;
use zarnet_core::plan::Plan;
use zarnet_core::predict::{Moment, Options, predict};
use zarnet_core::traffic::{Batches, Item};
use zarnet_formats::observed::{self, COLUMNS, ColumnMap, Form, LogMoment, Observed, is_log, read};
use zarnet_formats::traffic::Begun;
use zarnet_formats::traffic::Traffic;

use super::live::observed::is_address;
use super::traffic::{attempts, device, given, moment, open, tell_elsewhere};
use super::{live, plan};
use crate::args::{Common, Compare, TableFile};
use crate::exit::{FINE, Failure, NEGATIVE};
use crate::present::compare::text;
use crate::present::{diagnostic, present};

pub fn run(args: &Compare, common: &Common) -> Result<u8, Failure> {
    let loaded = plan(&args.plan, common)?;
    let traffic = open(&given(&args.traffic)?, &loaded, &args.reader, common)?;
    let shared = Arc::new(loaded.plan.clone());
    let options = Options { seed: common.seed, sessions: false, ..Options::default() };
    let moment = moment(&args.at, &shared, &traffic, common)?;
    let of_log = || of_log(&traffic, moment);
    let observed = table(&args.observed, &args.table, &loaded.plan, of_log)?;
    let begun = RefCell::new(Begun::default());
    let mut prediction =
        attempts(&traffic, Options { moment, ..options }, common.quiet, |items, options| {
            let noted = Noted { items, traffic: &traffic, begun: &begun };
            predict(shared.clone(), noted, traffic.events(), options)
        })?;
    tell_elsewhere(&prediction, common.quiet);
    // a table that is one device's says nothing of the others
    if let Some(name) = &args.table.device {
        let only = device(&loaded.plan, name)?;
        prediction.tables.retain(|t| t.device == only);
    }
    let comparison = compare(&prediction, &observed, &begun.into_inner());
    let answer = CompareAnswer { prediction: &prediction, comparison: &comparison };
    present(&answer, common, |out, width| text(answer, out, width, args.rows))?;
    if is_address(&args.observed) && args.at == "end" && !comparison.differences.is_empty() {
        let help = "--at TIME says which moment of the traffic now is";
        diagnostic::note(
            common.quiet,
            &format!("the table is of now, the prediction of the end of the traffic; {help}"),
        );
    }
    Ok(if comparison.differences.is_empty() { FINE } else { NEGATIVE })
}

/// The moment of the traffic as a log knows it.
pub(super) fn of_log(traffic: &Traffic, moment: Moment) -> Result<LogMoment, Failure> {
    let begins = traffic.origin().ok_or_else(|| {
        let help = "--begins 2026-08-01T06:00:00Z says when the first of it happens".to_owned();
        let message = "a log has times of day, and the traffic has none";
        Failure::wrong("begins-missing", message, help)
    })?;
    let begins = i64::try_from(begins.div_euclid(1_000_000)).unwrap_or(i64::MAX);
    let at = if let Moment::At(at) = moment { Some(at) } else { None };
    Ok(LogMoment { begins, at })
}

/// The end of a log.
pub(super) fn end_of_log() -> Result<LogMoment, Failure> {
    Ok(LogMoment { begins: 0, at: None })
}

/// The table of a device, as somebody saved it or as the device itself tells it; or a translation
/// log, of which `of_log` tells the moment.
pub(super) fn table(
    named: &str,
    file: &TableFile,
    plan: &Plan,
    of_log: impl FnOnce() -> Result<LogMoment, Failure>,
) -> Result<Vec<Observed>, Failure> {
    if is_address(named) {
        return live::observed::table(named, file, plan);
    }
    let columns = file.columns.as_deref().map(ColumnMap::parse).transpose().map_err(|fault| {
        let help = format!(
            "columns are {}, numbered from 1: --columns internal=3,external=4",
            COLUMNS.join(", ")
        );
        Failure::wrong(fault.name(), format!("--columns: {fault}"), help)
    })?;
    let of = file.device.as_deref().map(|name| device(plan, name)).transpose()?;
    let given = given(&[named.to_owned()])?;
    let Some(given) = given.first() else { return Ok(Vec::new()) };
    let form = Form { columns: columns.as_ref(), of };
    // what cannot be read is told when it is read as a table
    let read = match file.columns.is_none() && is_log(given).unwrap_or(false) {
        true => observed::of_log(given, form, of_log()?, plan),
        false => read(given, form, plan),
    };
    read.map_err(|errors| {
        diagnostic::traffic(&errors[..errors.len().min(limits::BAD_LINES_SHOWN)], errors.len());
        Failure::Told
    })
}

/// Traffic of which it is noted which ends begin flows: what the table has from others was not
/// sent.
struct Noted<'a, B> {
    items: B,
    traffic: &'a Traffic,
    begun: &'a RefCell<Begun>,
}

impl<B: Batches> Batches for Noted<'_, B> {
    type Error = B::Error;

    fn fill(&mut self, batch: &mut Vec<Item>, most: usize) -> Option<B::Error> {
        let error = self.items.fill(batch, most);
        let mut begun = self.begun.borrow_mut();
        batch.iter().for_each(|item| self.traffic.note_begun(item, &mut begun));
        error
    }
}
