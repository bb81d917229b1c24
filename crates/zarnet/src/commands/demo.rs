//! `zarnet demo [DIR]`: the demo estate, and a walk through the job on it.

use std::io::{self, Write};
use std::path::Path;

use clap::Parser;

use super::files;
use crate::args::{Arguments, Common, Demo};
use crate::exit::{FINE, Failure};
use crate::render::output;
use crate::render::table::{BOLD, DIM, GOOD};

/// The files of the estate, with a line on what each shows.
const FILES: [(&str, &[u8], &str); 4] = [
    (
        "harbour.toml",
        include_bytes!("../../../../demo/saltmere/harbour.toml"),
        "the plan: one edge, five rules of four types",
    ),
    ("morning.csv", include_bytes!("../../../../demo/saltmere/morning.csv"), "a flow list: 2,736 flows of one morning"),
    (
        "storm.toml",
        include_bytes!("../../../../demo/saltmere/storm.toml"),
        "a scenario: load profiles, and what is done to the edge meanwhile",
    ),
    (
        "quay.pcap.gz",
        include_bytes!("../../../../demo/saltmere/quay.pcap.gz"),
        "a capture made at the interface `quay`",
    ),
];

/// A step: what it is for, the arguments (`@` is the folder), and what to see in the output.
struct Step {
    title: &'static str,
    arguments: &'static [&'static str],
    see: &'static str,
}

const STEPS: [Step; 8] = [
    Step {
        title: "Is the plan right?",
        arguments: &["check", "@/harbour.toml"],
        see: "Every error of a plan is told at once, with its place; findings come with a way out. Here there are none.",
    },
    Step {
        title: "What becomes of one flow?",
        arguments: &["predict", "@/harbour.toml", "kiosk-3 -> 198.51.100.80:443/tcp", "--sessions"],
        see: "The last rule gives the kiosk the uplink's own address; the other mappings are fixed and always there.",
    },
    Step {
        title: "The same from outside, at a tide gauge",
        arguments: &["predict", "@/harbour.toml", "198.51.100.130:40000 -> 203.0.113.2:24012/tcp", "--sessions"],
        see: "External port 24012 leads to port 4010 of the southern gauge; the policy looks at the destination as translated.",
    },
    Step {
        title: "A whole morning, at a quarter to nine",
        arguments: &["predict", "@/harbour.toml", "@/morning.csv", "--at", "2h45m", "--rows", "12"],
        see: "Three lines for four offices: office-4 was refused 14 times until office-2 gave its line back.",
    },
    Step {
        title: "The same morning when the table was fullest",
        arguments: &["predict", "@/harbour.toml", "@/morning.csv", "--at", "peak", "--rows", "8"],
        see: "`--at peak` finds the moment with the most dynamic mappings and shows the table then.",
    },
    Step {
        title: "A capture of real programs, packet by packet",
        arguments: &["predict", "@/harbour.toml", "@/quay.pcap.gz", "--seen-at", "harbour-edge/quay", "--rows", "10"],
        see: "One connection is still open when the recording ends; telnet is dropped by the filter on the quay.",
    },
    Step {
        title: "An evening that never was, a minute after the edge lost power",
        arguments: &["predict", "@/harbour.toml", "@/storm.toml", "--at", "31m", "--rows", "6"],
        see: "Profiles make the flows; the restart at 30m ended every session, and the kiosks fill the table again.",
    },
    Step {
        title: "How does a device behave, and what does a preset hold?",
        arguments: &["behaviour"],
        see: "Where devices may differ, the plan says how yours does: a preset, or key by key.",
    },
];

pub fn run(args: &Demo, common: &Common) -> Result<u8, Failure> {
    let folder = &args.folder;
    std::fs::create_dir_all(folder).map_err(|error| {
        Failure::wrong("cannot-write", format!("{}: {error}", folder.display()), "choose another folder".to_owned())
    })?;
    for (name, contents, _) in FILES {
        files::write(&folder.join(name), contents, args.force)?;
    }
    output::answer(|out| introduction(out, folder))?;
    for (number, step) in STEPS.iter().enumerate() {
        let words: Vec<String> = step.arguments.iter().map(|a| a.replace('@', &folder.display().to_string())).collect();
        output::answer(|out| {
            writeln!(out, "{BOLD}{}. {}{BOLD:#}", number + 1, step.title)?;
            writeln!(out, "{GOOD}$ zarnet {}{GOOD:#}\n", words.iter().map(|w| quoted(w)).collect::<Vec<_>>().join(" "))
        })?;
        let typed = std::iter::once("zarnet".to_owned()).chain(words);
        let mut arguments = Arguments::try_parse_from(typed).map_err(|e| io::Error::other(e.to_string()))?;
        arguments.common = Common { format: crate::args::Format::Text, ..common.clone() };
        super::dispatch(&arguments)?;
        output::answer(|out| writeln!(out, "\n{BOLD}See{BOLD:#} {}\n", step.see))?;
    }
    output::answer(|out| {
        writeln!(
            out,
            "{BOLD}Next{BOLD:#} change a rule in {}, and run a step again.",
            folder.join("harbour.toml").display()
        )?;
        writeln!(out, "{DIM}`zarnet new FILE` writes a plan of your own to start from.{DIM:#}")
    })?;
    Ok(FINE)
}

fn introduction(out: &mut dyn Write, folder: &Path) -> io::Result<()> {
    writeln!(
        out,
        "{BOLD}Saltmere Ferries, Harbour Street{BOLD:#}: an invented estate, written to {}/",
        folder.display()
    )?;
    let longest = FILES.iter().map(|f| f.0.len()).max().unwrap_or(0);
    for (name, _, what) in FILES {
        writeln!(out, "  {name:longest$}  {DIM}{what}{DIM:#}")?;
    }
    writeln!(out)
}

/// A word as one would type it.
fn quoted(word: &str) -> String {
    if word.contains([' ', '>']) { format!("\"{word}\"") } else { word.to_owned() }
}
