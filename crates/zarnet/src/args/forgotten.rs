//! Words on the command line that nothing asked for: mostly because an option, or what is to be
//! done, was forgotten before them.

use clap::error::{ContextKind, ContextValue, ErrorKind};
use clap::{Command, CommandFactory};

use super::Arguments;

/// What could have been meant by a word that nothing asked for.
pub fn forgotten_word(said: &clap::Error) -> Option<String> {
    let word = match (said.kind(), said.get(ContextKind::InvalidArg)?) {
        (ErrorKind::UnknownArgument, ContextValue::String(word)) => word,
        _ => return None,
    };
    if word.starts_with('-') {
        return None;
    }
    let ContextValue::StyledStr(usage) = said.get(ContextKind::Usage)? else { return None };
    let usage = usage.to_string();
    let program = Arguments::command();
    let mut command = &program;
    for name in usage.split_whitespace() {
        command = command.find_subcommand(name).unwrap_or(command);
    }
    let actions: Vec<&str> = command
        .get_subcommands()
        .filter(|c| c.get_name() != "help")
        .map(Command::get_name)
        .collect();
    if !actions.is_empty() {
        return Some(format!("say before `{word}` what is to be done: {}", actions.join(", ")));
    }
    let takes_value = |a: &&clap::Arg| a.get_action().takes_values() && !a.is_positional();
    let options: Vec<String> = command
        .get_arguments()
        .filter(takes_value)
        .filter_map(|a| a.get_long().map(|long| format!("--{long}")))
        .collect();
    let words: Vec<String> = command.get_positionals().map(|a| a.to_string()).collect();
    if words.iter().any(|w| w.contains("FLOW")) {
        return Some("a flow is one word, in quotes: \"pc -> 198.51.100.80:443/tcp\"".to_owned());
    }
    let takes = match words.as_slice() {
        [] => "it takes options only".to_owned(),
        words => format!("it takes {}", words.join(" ")),
    };
    match options.as_slice() {
        [] => Some(takes),
        options => Some(format!("{takes}; say before `{word}` what it is: {}", options.join(", "))),
    }
}
