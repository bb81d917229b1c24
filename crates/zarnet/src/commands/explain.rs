//! `zarnet explain NAME`: what a finding, reason, cause or error means.

use zarnet_analysis::answer::explain::ExplainAnswer;
use zarnet_core::plan::nearest;

use crate::args::{Common, Explain};
use crate::exit::{FINE, Failure};
use crate::present::{explain, present};

pub fn run(args: &Explain, common: &Common) -> Result<u8, Failure> {
    let Some(name) = &args.name else {
        let all = ExplainAnswer::all();
        present(&all, common, |out, _| explain::list(&all, out))?;
        return Ok(FINE);
    };
    let answer = ExplainAnswer::of(name);
    if answer.entries.is_empty() {
        let all = ExplainAnswer::all();
        let help = match nearest(name, all.entries.iter().map(|e| e.name)) {
            Some(near) => format!("did you mean `{near}`?"),
            None => "`zarnet explain` lists every name".to_owned(),
        };
        return Err(Failure::wrong("unknown-name", format!("nothing is called `{name}`"), help));
    }
    present(&answer, common, |out, _| explain::text(&answer, out))?;
    Ok(FINE)
}
