//! `zarnet schema`, `zarnet completions`, `zarnet man`: for editors, shells and readers of manuals.

use clap::CommandFactory;
use zarnet_analysis::plan_schema;

use crate::args::Arguments;
use crate::exit::{FINE, Failure};
use crate::present::output;

/// Prints the JSON Schema of plans.
pub fn plan() -> Result<u8, Failure> {
    let schema = serde_json::to_string_pretty(&plan_schema()).map_err(std::io::Error::from)?;
    output::verbatim(format!("{schema}\n").as_bytes())?;
    Ok(FINE)
}

/// Prints completions for a shell.
pub fn completions(shell: clap_complete::Shell) -> Result<u8, Failure> {
    let mut text = Vec::new();
    clap_complete::generate(shell, &mut Arguments::command(), "zarnet", &mut text);
    output::verbatim(&text)?;
    Ok(FINE)
}

/// Prints the page of the manual: the program, then each command.
pub fn manual() -> Result<u8, Failure> {
    let command = Arguments::command();
    let mut text = Vec::new();
    clap_mangen::Man::new(command.clone()).render(&mut text)?;
    for sub in command.get_subcommands().filter(|s| s.get_name() != "help") {
        let man = clap_mangen::Man::new(sub.clone());
        text.extend(format!(".SH COMMAND: {}\n", sub.get_name().to_uppercase()).bytes());
        man.render_synopsis_section(&mut text)?;
        man.render_description_section(&mut text)?;
        man.render_options_section(&mut text)?;
    }
    output::verbatim(&text)?;
    Ok(FINE)
}
