//! `zarnet log --summary`: how much log each choice makes.

use zarnet_analysis::answer::log::LogSummary;
use zarnet_core::plan::Log;

use super::encode::{Counter, Encoder};
use super::{Logging, has_blocks};
use crate::args::Common;
use crate::exit::{FINE, Failure};
use crate::present::log::summary_text;
use crate::present::present;

pub(super) fn run(what: &Logging<'_>, common: &Common) -> Result<u8, Failure> {
    let mut span: Option<(i64, i64)> = None;
    let mut choices = Vec::new();
    for log in [Log::Sessions, Log::Mappings, Log::Blocks] {
        if log == Log::Blocks && !has_blocks(&what.plan) {
            choices.push((log, None));
            continue;
        }
        let mut counter = Counter::new();
        what.play(Some(log), Encoder::Counted(&mut counter))?;
        if let Some((from, until)) = counter.span {
            let (first, last) = span.unwrap_or((from, until));
            span = Some((first.min(from), last.max(until)));
        }
        choices.push((log, Some(counter.amount)));
    }
    let begins = (what.origin / 1_000_000) as i64;
    let summary = LogSummary { span: span.unwrap_or((begins, begins)), choices };
    present(&summary, common, |out, _| summary_text(out, &summary))?;
    Ok(FINE)
}
