//! `zarnet check PLAN`

use zarnet_analysis::answer::check::{CheckAnswer, FindingList};
use zarnet_analysis::audit::audit;
use zarnet_core::finding::{FINDINGS, Severity};
use zarnet_core::limits;
use zarnet_core::plan::nearest;
use zarnet_formats::plan::{LoadError, load};

use super::{Kept, reach, told};
use crate::args::{Check, Common, Format};
use crate::exit::{FINE, Failure, NEGATIVE, WRONG_INPUT};
use crate::present::{check, present};

pub fn run(args: &Check, common: &Common) -> Result<u8, Failure> {
    let Some(path) = args.plan.as_deref() else {
        let all = FindingList::all();
        present(&all, common, |out, _| check::list(&all, out))?;
        return Ok(FINE);
    };
    args.allow.iter().chain(&args.deny).try_for_each(|name| known(name))?;
    let mut loaded = match load(path, reach(path, common)) {
        Ok(loaded) => Kept::new(loaded),
        Err(LoadError::Problems { problems, sources }) if common.format != Format::Text => {
            let answer = CheckAnswer::of_problems(&problems, &sources);
            present(&answer, common, |_, _| Ok(()))?;
            return Ok(WRONG_INPUT);
        }
        Err(error) => return Err(told(error)),
    };
    loaded.plan.allow.extend(args.allow.iter().cloned());
    loaded.plan.deny.extend(args.deny.iter().cloned());
    let findings = audit(&loaded.plan);
    // as text, diffs are for those who ask for more
    let has_diffs = common.format != Format::Text || common.verbose;
    let repairs = if has_diffs { limits::REPAIRS } else { 0 };
    let answer = CheckAnswer::of_findings(&loaded, &findings, repairs);
    present(&answer, common, |out, _| {
        check::text(&answer, (&findings, &loaded, path), common.verbose, out)
    })?;
    let bad = findings.iter().any(|f| f.severity == Severity::Error);
    Ok(if bad { NEGATIVE } else { FINE })
}

/// Refuses a name that no finding has.
fn known(name: &str) -> Result<(), Failure> {
    if FINDINGS.iter().any(|f| f.name == name) {
        return Ok(());
    }
    let help = match nearest(name, FINDINGS.iter().map(|f| f.name)) {
        Some(near) => format!("did you mean `{near}`?"),
        None => "`zarnet check --list` has them all".to_owned(),
    };
    Err(Failure::wrong("unknown-name", format!("there is no finding `{name}`"), help))
}
