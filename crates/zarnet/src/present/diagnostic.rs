//! Errors and warnings on standard error: what, where, why, and a way out. One look for all of
//! them.

use std::borrow::Cow;
use std::io::Write;
use std::ops::Range;
use std::path::{Path, PathBuf};

use annotate_snippets::{Annotation, AnnotationKind, Group, Level, Renderer, Snippet};
use zarnet_analysis::answer::packets::flow;
use zarnet_analysis::audit::Finding;
use zarnet_core::finding::Severity;
use zarnet_core::limits;
use zarnet_core::net::is_hidden;
use zarnet_core::plan::{Place, Problem, Problems};
use zarnet_formats::source::{SourceFile, Sources};
use zarnet_formats::traffic::TrafficError;

use super::escape::{Escaping, Form, escaped};
use super::table::DIM;

/// A thing to tell about a plan.
pub struct Told<'a> {
    /// Error, warning or hint.
    pub level: Level<'static>,
    /// Stable name of the error or finding.
    pub name: &'a str,
    /// What is wrong, in a sentence.
    pub message: String,
    /// Where it stands, if that is known.
    pub place: Option<Place>,
    /// Another place that has to do with it.
    pub other: Option<(Place, &'static str)>,
    /// What to do about it.
    pub help: Option<String>,
}

impl<'a> From<&'a Problem> for Told<'a> {
    fn from(problem: &'a Problem) -> Self {
        Told {
            level: Level::ERROR,
            name: problem.error.name(),
            message: problem.error.to_string(),
            place: Some(problem.place),
            other: problem.other,
            help: problem.error.help(),
        }
    }
}

/// Two places so many octets apart have a piece of source each.
const APART: usize = 1 << 14;

fn renderer() -> Renderer {
    let width =
        terminal_size::terminal_size_of(std::io::stderr()).map_or(120, |(w, _)| usize::from(w.0));
    Renderer::styled().term_width(width.max(60))
}

/// Writes to standard error; if that is gone, there is nobody left to tell.
fn write(text: &str) {
    let mut out = Escaping::new(anstream::stderr().lock(), Form::Text);
    let _ = writeln!(out, "{text}").and_then(|()| out.flush());
}

/// No message is longer: what it quotes may be a line of a megabyte.
const LONGEST: usize = 600;

/// A message with its hidden characters escaped, and cut where it is too long to be read.
fn readable(message: &str) -> String {
    let text = escaped(message, Form::Plain);
    match text.char_indices().nth(LONGEST) {
        Some((end, _)) => format!("{}...", &text[..end]),
        None => text,
    }
}

/// A piece of source in which every hidden character has another in its place, as long as it: marks
/// stay where they are.
fn shown(source: &str) -> Cow<'_, str> {
    let instead = |c: char| match (is_hidden(c) && c != '\n' && c != '\t', c.len_utf8()) {
        (false, _) => c,
        (true, 1) => '?',
        (true, 2) => '\u{bf}',
        (true, 3) => '\u{fffd}',
        (true, _) => '\u{1f5ff}',
    };
    match source.chars().any(|c| instead(c) != c) {
        true => Cow::Owned(source.chars().map(instead).collect()),
        false => Cow::Borrowed(source),
    }
}

/// One thing with its piece of source.
pub fn snippet(told: &Told<'_>, sources: &Sources) -> String {
    let title = told.level.clone().primary_title(readable(&told.message)).id(told.name);
    let mut group = Group::with_title(title);
    if let Some((file, place)) = told.place.and_then(|p| sources.file(p).zip(Some(p))) {
        group = group.elements(pieces(file, place, told.other.filter(|o| o.0.file == place.file)));
    }
    if let Some(help) = &told.help {
        group = group.element(Level::HELP.message(readable(help)));
    }
    renderer().render(&[group])
}

/// The piece of source of a place, and of another one that has to do with it: in one if they are
/// close. Only the lines in question: of a long file, looking at the rest would take longer than
/// finding what is wrong.
fn pieces<'a>(
    file: &'a SourceFile,
    place: Place,
    other: Option<(Place, &'a str)>,
) -> Vec<Snippet<'a, Annotation<'a>>> {
    let span = |p: Place| {
        let end = (p.end as usize).min(file.text().len());
        // a table is marked by its header, not by all that it holds
        let start = (p.start as usize).min(end);
        let line = file.text()[start..end].find('\n').map_or(end, |n| start + n);
        start..line
    };
    let mut marks = vec![(AnnotationKind::Primary, span(place), None)];
    marks.extend(other.map(|(p, label)| (AnnotationKind::Context, span(p), Some(label))));
    let starts = || marks.iter().map(|m| m.1.start);
    let close =
        starts().max().zip(starts().min()).is_some_and(|(last, first)| last - first < APART);
    let piece = |marks: &[(AnnotationKind, Range<usize>, Option<&'a str>)]| {
        let first = marks.iter().map(|m| m.1.start).min().unwrap_or(0);
        let last = marks.iter().map(|m| m.1.end).max().unwrap_or(first);
        let (line, lines) = file.lines_around(first..last);
        let start = lines.start;
        let marks = marks
            .iter()
            .map(|(kind, s, label)| kind.span(s.start - start..s.end - start).label(*label));
        let source = Snippet::source(shown(&file.text()[lines])).line_start(line);
        let source = source.path(readable(&file.path.to_string_lossy()));
        source.annotations(marks)
    };
    marks.chunks(if close { marks.len() } else { 1 }).map(piece).collect()
}

/// Writes a finding with its piece of source, and a packet that shows it.
pub fn finding(out: &mut dyn Write, found: &Finding, sources: &Sources) -> std::io::Result<()> {
    let level = match found.severity {
        Severity::Error => Level::ERROR,
        Severity::Warning => Level::WARNING,
        Severity::Hint => Level::INFO.with_name("hint"),
    };
    let other = found.places.get(1).map(|p| (*p, "this one"));
    let (place, message, help) =
        (found.places.first().copied(), found.message.clone(), found.help.clone());
    writeln!(
        out,
        "{}",
        snippet(&Told { level, name: found.name, message, place, other, help }, sources)
    )?;
    match found.witness {
        Some(witness) => writeln!(out, "  {DIM}for example{DIM:#} {}", flow(witness)),
        None => Ok(()),
    }
}

/// Tells every problem of a plan, and how many there are.
pub fn problems(problems: &Problems, sources: &Sources) {
    for problem in problems.kept().iter().take(limits::PROBLEMS_SHOWN) {
        write(&format!("{}\n", snippet(&Told::from(problem), sources)));
    }
    let count = problems.count();
    if count > limits::PROBLEMS_SHOWN {
        write(&format!("... and {} more", count - limits::PROBLEMS_SHOWN));
    }
    let what = if count == 1 { "error" } else { "errors" };
    let path = sources.0.first().map(|s| s.path.display().to_string()).unwrap_or_default();
    write(&format!("{count} {what} in {path}"));
}

/// Tells what is wrong with traffic.
pub fn traffic(errors: &[TrafficError], count: usize) {
    for error in errors {
        let place = match error.line {
            Some(line) => format!("{}:{line}", error.input.display()),
            None => error.input.display().to_string(),
        };
        say(
            error.fault.name(),
            &error.fault.to_string(),
            Some(Path::new(&place)),
            error.fault.help().as_deref(),
        );
    }
    if count > errors.len() {
        let least = if count >= limits::BAD_LINES { "at least " } else { "" };
        let more = count - errors.len();
        write(&format!(
            "... and {least}{more} more like these; --skip-bad passes over wrong lines and counts \
             them"
        ));
    }
}

/// Tells an error without a piece of source.
pub fn say(name: &str, message: &str, place: Option<&Path>, help: Option<&str>) {
    tell(&Level::ERROR, name, message, place, help);
}

/// Tells a warning without a piece of source.
pub fn warn(name: &str, message: &str, help: Option<&str>) {
    tell(&Level::WARNING, name, message, None, help);
}

fn tell(
    level: &Level<'static>,
    name: &str,
    message: &str,
    place: Option<&Path>,
    help: Option<&str>,
) {
    let place = place.map(|p| readable(&p.display().to_string()));
    let mut group = Group::with_title(level.clone().primary_title(readable(message)).id(name));
    if let Some(place) = &place {
        group = group.element(annotate_snippets::Origin::path(place.as_str()));
    }
    if let Some(help) = help {
        group = group.element(Level::HELP.message(readable(help)));
    }
    write(&renderer().render(&[group]));
}

/// Says which files were written, and what for.
pub fn written(files: &[PathBuf], what: &str, quiet: bool) {
    files.iter().for_each(|path| note(quiet, &format!("wrote {}: {what}", path.display())));
}

/// Tells what is wrong with the command line.
pub fn command_line(said: &clap::Error) {
    let text = said.render().ansi().to_string();
    match crate::args::forgotten_word(said) {
        None => write(text.trim_end()),
        Some(hint) => {
            // behind what is wrong, and before how it is used
            let (wrong, usage) = text.trim_end().split_once("\n\n").unwrap_or((&text, ""));
            write(&format!("{wrong}\n = help: {hint}\n\n{usage}"));
        }
    }
}

/// Says something on standard error that is neither answer nor error.
pub fn note(quiet: bool, text: &str) {
    if !quiet {
        write(text);
    }
}
