//! `zarnet import FILE...`: documents of the standard data models as a plan.

use std::path::Path;

use serde_json::{Map, Value};
use zarnet_analysis::answer::exchange::ImportAnswer;
use zarnet_core::limits;
use zarnet_formats::data_model::parse;
use zarnet_formats::files::read_text;
use zarnet_formats::ietf_nat::{ImportError, import};
use zarnet_formats::plan::from_text;

use super::told;
use crate::args::{Common, Format, Import};
use crate::exit::{FINE, Failure};
use crate::files;
use crate::present::{diagnostic, exchange, present};

pub fn run(args: &Import, common: &Common) -> Result<u8, Failure> {
    let document = joined(args)?;
    let imported = import(&document, &args.device).map_err(|error| match error {
        ImportError::Faults(faults) => {
            let files: Vec<String> = args.files.iter().map(|f| f.display().to_string()).collect();
            exchange::tell_faults(&faults, &files.join(", "));
            Failure::Told
        }
        ImportError::NothingThere => Failure::wrong(
            "nothing-to-import",
            "there is nothing in it that a plan is made of",
            "a document has `ietf-nat:nat`, and the interfaces beside it".to_owned(),
        ),
    })?;
    // what comes out must be a plan: what the schema allows may still be wrong
    let path = args.into.clone().unwrap_or_else(|| "imported.toml".into());
    from_text(&path, imported.text.clone()).map_err(told)?;
    if let Some(path) = &args.into {
        files::write_new(path, imported.text.as_bytes(), args.force)?;
    }
    let answer = ImportAnswer { imported: &imported };
    let is_written = args.into.is_some() && common.format == Format::Text;
    if !is_written {
        present(&answer, common, |out, _| out.write_all(imported.text.as_bytes()))?;
    }
    exchange::tell_import(&imported, common.quiet);
    if let Some(path) = &args.into {
        diagnostic::written(std::slice::from_ref(path), "the plan", common.quiet);
    }
    Ok(FINE)
}

/// The documents as one: each top-level member from the file that has it.
fn joined(args: &Import) -> Result<Value, Failure> {
    let mut whole = Map::new();
    let mut wrong = false;
    for path in &args.files {
        match members(path) {
            Ok(members) => {
                for (name, value) in members {
                    if whole.insert(name.clone(), value).is_some() {
                        let message =
                            format!("{}: `{name}` stands in another file too", path.display());
                        let help = "give the documents of one device".to_owned();
                        diagnostic::say("said-twice", &message, None, Some(&help));
                        wrong = true;
                    }
                }
            }
            Err(message) => {
                diagnostic::say("not-a-document", &message, Some(path), None);
                wrong = true;
            }
        }
    }
    if wrong { Err(Failure::Told) } else { Ok(Value::Object(whole)) }
}

fn members(path: &Path) -> Result<Map<String, Value>, String> {
    let text = read_text(path, limits::OBSERVED_OCTETS as u64).map_err(|e| e.to_string())?;
    let document = parse(&text).map_err(|fault| fault.kind.to_string())?;
    let Value::Object(mut members) = document else {
        return Err("a document is an object".into());
    };
    // a whole datastore, as a device tells it
    if let Some(Value::Object(inner)) = members.shift_remove("ietf-restconf:data") {
        members.extend(inner);
    }
    Ok(members)
}
