//! `zarnet define PLAN ...`: a rule, group or pool written into the plan, checked, and shown with
//! what it changes.

use std::collections::HashSet;

use zarnet_analysis::answer::define::DefineAnswer;
use zarnet_analysis::answer::diff;
use zarnet_analysis::audit::{Finding, audit, audit_devices};
use zarnet_analysis::define::{PlanEditor, needed};
use zarnet_analysis::impact::{differing, impact_of_files};
use zarnet_core::finding::Severity;
use zarnet_core::plan::DeviceId;
use zarnet_formats::plan::{LoadError, Loaded, edited};

use super::edits::edits;
use super::{only_device, plan};
use crate::args::{Common, Define, Format};
use crate::exit::{FINE, Failure, NEGATIVE};
use crate::files;
use crate::present::define::text;
use crate::present::table::DIM;
use crate::present::{View, diagnostic, output, present};

pub fn run(args: &Define, common: &Common) -> Result<u8, Failure> {
    let loaded = plan(&args.plan, common)?;
    let id = only_device(&loaded.plan, args.device.as_deref())?;
    let (changed, found, before, after) = std::thread::scope(|scope| {
        // what is wrong with a single device already is looked for while the change is made up;
        // of several, those that stay as they are need not be asked
        let is_alone = loaded.plan.devices.len() == 1;
        let early = is_alone.then(|| scope.spawn(|| audit(&loaded.plan)));
        let changed = changed(args, &loaded, id)?;
        let (found, before, after) = std::thread::scope(|scope| {
            let found = scope.spawn(|| impact_of_files(&loaded, &changed));
            let [old, new] = match is_alone {
                true => [vec![true], vec![true]],
                false => differing(&loaded.plan, &changed.plan),
            };
            let before = early
                .unwrap_or_else(|| scope.spawn(|| audit_devices(&loaded.plan, move |d| old[d])));
            let after = audit_devices(&changed.plan, |d| new[d]);
            (found.join().unwrap_or_default(), before.join().unwrap_or_default(), after)
        });
        Ok::<_, Failure>((changed, found, before, after))
    })?;
    let new = fresh(&before, after);
    let bad = new.iter().any(|f| f.severity == Severity::Error);
    // what is shown as written is written already: whoever reads the answer may go away in the
    // middle of it
    let written = match args.dry_run {
        true => Vec::new(),
        false => files::put_plan(&loaded.sources, &changed.sources, args.force)?,
    };
    let changes = diff(&loaded.sources, &changed.sources);
    let answer =
        DefineAnswer { written: !args.dry_run, diff: &changes, findings: &new, impact: &found };
    present(&answer, common, |out, width| {
        text(answer, &changed.sources, View { width, rows: 6, verbose: common.verbose }, out)
    })?;
    diagnostic::written(&written, "as shown", common.quiet);
    if args.dry_run && common.format == Format::Text {
        output::answer(|out| writeln!(out, "{DIM}nothing was written: --dry-run{DIM:#}"))?;
    }
    Ok(if bad { NEGATIVE } else { FINE })
}

/// The plan with the change that was asked for.
fn changed(args: &Define, loaded: &Loaded, id: DeviceId) -> Result<Loaded, Failure> {
    let edits = edits(PlanEditor::new(&loaded.plan, id), &args.what)?;
    // what a rule needs besides itself is written only if it is not let pass already
    let edits = match edits.len() {
        1 => edits,
        _ => needed(loaded, edits).map_err(|error| told(error, loaded))?,
    };
    edited(loaded, &[edits]).map_err(|error| told(error, loaded))
}

/// What a change that leads to no plan came to: the errors of the plan that it would be.
fn told(error: Option<LoadError>, loaded: &Loaded) -> Failure {
    match error {
        Some(LoadError::Problems { problems, sources }) => {
            diagnostic::problems(&problems, &sources);
            diagnostic::note(false, "nothing was written");
            Failure::Told
        }
        Some(LoadError::Unreadable { path, error }) => {
            Failure::wrong("unreadable", format!("{}: {error}", path.display()), None)
        }
        None => {
            let file =
                loaded.sources.0.first().map(|f| f.path.display().to_string()).unwrap_or_default();
            let help =
                "what is to be dropped or moved must stand there as it is given, in one file"
                    .to_owned();
            Failure::wrong(
                "cannot-write",
                format!("the change cannot be written into {file} as it is laid out"),
                help,
            )
        }
    }
}

/// Findings that were not there before.
fn fresh(before: &[Finding], after: Vec<Finding>) -> Vec<Finding> {
    let known: HashSet<(&str, &str)> =
        before.iter().map(|b| (b.name, b.message.as_str())).collect();
    let is_new = |f: &Finding| !known.contains(&(f.name, f.message.as_str()));
    after.into_iter().filter(is_new).collect()
}
