//! `zarnet demo [DIR]`: the demo estate, and a walk through the job on it.

mod estate;
mod live;

use std::io::{self, Write};
use std::path::Path;

use clap::Parser;

use estate::{FAULT_DAYS, FAULTS, FILES};

use crate::args::{Arguments, Common, Demo};
use crate::exit::{FINE, Failure};
use crate::files;
use crate::present::output;
use crate::present::table::{BOLD, DIM, GOOD};

/// A step: what it is for, the arguments (`@` is the folder), and what to see in the output.
struct Step {
    title: &'static str,
    arguments: &'static [&'static str],
    see: &'static str,
}

/// When the morning of the demo begins.
const BEGINS: &str = "2026-08-01T06:00:00Z";

const STEPS: [Step; 24] = [
    Step {
        title: "Is the plan right?",
        arguments: &["check", "@/harbour.toml"],
        see: "All errors of a plan are reported at once, each with its place; findings come with \
              a repair and a packet that shows them.",
    },
    Step {
        title: "Does what must hold, hold?",
        arguments: &["expect", "@/harbour.toml"],
        see: "What the plan expects of its flows, tried one by one; exit code 1 if one fails, and \
              `--junit FILE` for a build.",
    },
    Step {
        title: "Which external addresses are free?",
        arguments: &["addresses", "@/harbour.toml", "--device", "harbour-edge"],
        see: "Every address of the block with who uses it; `sheet` prints what users of forwards \
              connect to.",
    },
    Step {
        title: "A new rule, tried before it is written",
        arguments: &[
            "define",
            "@/harbour.toml",
            "--device",
            "harbour-edge",
            "forward",
            "uplink:24070/tcp",
            "gauge-north:4010",
            "--name",
            "spare-gauge",
            "--source",
            "head-office",
            "--from",
            "yard",
            "--with-access",
            "--dry-run",
        ],
        see: "The diff, what it changes for all possible traffic, and no new finding; without \
              `--dry-run` it is written.",
    },
    Step {
        title: "What would a change of the plan change?",
        arguments: &[
            "impact",
            "@/harbour.toml",
            "@/after.toml",
            "--during",
            "@/morning.csv",
            "--at",
            "2h45m",
            "--rows",
            "3",
        ],
        see: "Two lines more, and ticketing switched off: classes of packets, exact, and the live \
              sessions that would linger.",
    },
    Step {
        title: "One flow hop by hop, there and back",
        arguments: &["follow", "@/harbour.toml", "kiosk-3 -> 198.51.100.80:443/tcp"],
        see: "The last rule gives the kiosk the uplink's own address; the answer finds its way \
              back by the session.",
    },
    Step {
        title: "From outside in, through two devices that both translate",
        arguments: &["follow", "@/harbour.toml", "198.51.100.130 -> 203.0.113.34:24022/tcp"],
        see: "The provider's box forwards port 24022 to our edge, which forwards it to the gauge: \
              both must agree on the port.",
    },
    Step {
        title: "The table that two flows produce",
        arguments: &[
            "predict",
            "@/harbour.toml",
            "kiosk-3 -> 198.51.100.80:443/tcp",
            "198.51.100.130:40000 -> 203.0.113.2:24012/tcp",
            "--sessions",
            "--device",
            "harbour-edge",
        ],
        see: "Fixed mappings are always there; the kiosk's came with its flow and goes with it.",
    },
    Step {
        title: "A whole morning, at a quarter to nine",
        arguments: &[
            "predict",
            "@/harbour.toml",
            "@/morning.csv",
            "--at",
            "2h45m",
            "--rows",
            "12",
            "--device",
            "harbour-edge",
        ],
        see: "Four lines for six offices: offices 5 and 6 were refused until office-2 gave its \
              line back, and then office-3 its own.",
    },
    Step {
        title: "Why was the fifth office refused, that very moment?",
        arguments: &[
            "why",
            "@/harbour.toml",
            "office-5 -> 198.51.100.80:443/tcp",
            "--during",
            "@/morning.csv",
            "--at",
            "2h20m",
        ],
        see: "`--during` and `--at` look at a flow in the middle of a day; who holds the lines, \
              and repairs that were tried.",
    },
    Step {
        title: "What differs on the device that moment?",
        arguments: &[
            "compare",
            "@/harbour.toml",
            "@/morning.csv",
            "--at",
            "2h45m",
            "--observed",
            "@/observed.csv",
            "--columns",
            "protocol=1,internal=2,external=3",
            "--device",
            "harbour-edge",
        ],
        see: "The rule for the southern gauge was never entered; the rest is what devices do \
              differently, each with its cause.",
    },
    Step {
        title: "The same morning when the table was fullest",
        arguments: &[
            "predict",
            "@/harbour.toml",
            "@/morning.csv",
            "--at",
            "peak",
            "--rows",
            "8",
            "--device",
            "harbour-edge",
        ],
        see: "`--at peak` finds the moment with the most dynamic mappings and shows the table \
              then.",
    },
    Step {
        title: "A capture of real programs, packet by packet",
        arguments: &[
            "predict",
            "@/harbour.toml",
            "@/quay.pcap.gz",
            "--seen-at",
            "harbour-edge/quay",
            "--rows",
            "10",
            "--device",
            "harbour-edge",
        ],
        see: "One connection is still open when the recording ends; telnet is dropped by the \
              filter on the quay.",
    },
    Step {
        title: "An evening that never was, a minute after the edge lost power",
        arguments: &[
            "predict",
            "@/harbour.toml",
            "@/storm.toml",
            "--at",
            "31m",
            "--rows",
            "6",
            "--device",
            "harbour-edge",
        ],
        see: "The load profiles generate the flows; the restart at 30m ended every session, and \
              the kiosks fill the table again.",
    },
    Step {
        title: "A plan with a fault, and the expectation that shows it",
        arguments: &["expect", "@/faults/chain-wrong-port.toml"],
        see: "The shortest useful trace: who made what of the packet, who dropped it, and where \
              that stands in the plan.",
    },
    Step {
        title: "Why does it not work, and what would repair it?",
        arguments: &[
            "why",
            "@/faults/chain-wrong-port.toml",
            "198.51.100.80 -> 203.0.113.2:443/tcp",
        ],
        see: "One cause, and repairs as edits of the plan that were tried; `--apply 1` writes the \
              first, comments kept.",
    },
    Step {
        title: "The ferry office gets a second line: why do bookings not come in by it?",
        arguments: &["why", "@/ferry-office.toml", "198.51.100.80 -> 192.0.2.66:443/tcp"],
        see: "The desks leave by the new line, and so must answers to what came in by it; each \
              repair says what else it changes.",
    },
    Step {
        title: "A Saturday in August: what runs out, and for whom?",
        arguments: &["capacity", "@/terminal.toml", "@/saturday.toml", "--brief", "--rows", "7"],
        see: "Desks wait for addresses that others keep; an hour later six phones take the hall's \
              ports. Two shortages, two reasons.",
    },
    Step {
        title: "How many lines would be enough, and what else would help?",
        arguments: &[
            "capacity",
            "@/terminal.toml",
            "@/saturday.toml",
            "--supply",
            "desk-lines",
            "--runs",
            "2",
            "--rows",
            "3",
        ],
        see: "Each remedy was played on the same Saturday; `--apply shorter-binding` writes one, \
              `--chart FILE.png` draws it.",
    },
    Step {
        title: "What will the edge log, and how much is that a day?",
        arguments: &["log", "@/harbour.toml", "@/morning.csv", "--begins", BEGINS, "--summary"],
        see: "What a collector must take and keep, for each of the choices that a rule has with \
              `log`.",
    },
    Step {
        title: "The log of the morning, as the edge will write it",
        arguments: &[
            "log",
            "@/harbour.toml",
            "@/morning.csv",
            "--begins",
            BEGINS,
            "--as",
            "mappings",
            "--format",
            "ipfix",
            "--into",
            "@/morning.ipfix",
            "--force",
        ],
        see: "IPFIX with the events of RFC 8158; `--format syslog` and `csv` are others, and \
              `--to udp://HOST:PORT` sends it to a collector.",
    },
    Step {
        title: "A store of logs",
        arguments: &["record", "@/log-store", "@/morning.ipfix"],
        see: "`--listen` takes logs while devices send them; recording a log twice changes \
              nothing.",
    },
    Step {
        title: "Who was it?",
        arguments: &[
            "whose",
            "@/log-store",
            "203.0.113.2:49201/tcp",
            "--at",
            "2026-08-01T08:45:00Z",
            "--plan",
            "@/harbour.toml",
        ],
        see: "The host, from when until when, and how certain it is; of a gap in the logs it would \
              be told.",
    },
    Step {
        title: "How does a device behave, and what does a preset hold?",
        arguments: &["behaviour"],
        see: "Where devices may differ, the plan says how yours does: a preset, or key by key.",
    },
];

pub fn run(args: &Demo, common: &Common) -> Result<u8, Failure> {
    let folder = &args.folder;
    std::fs::create_dir_all(folder.join("faults")).map_err(|error| {
        Failure::wrong(
            "cannot-write",
            format!("{}: {error}", folder.display()),
            "choose another folder".to_owned(),
        )
    })?;
    for (name, contents, _) in FILES {
        files::write_new(&folder.join(name), contents, args.force)?;
    }
    for (name, contents) in FAULTS.iter().chain(&FAULT_DAYS) {
        files::write_new(&folder.join("faults").join(name), contents, args.force)?;
    }
    output::answer(|out| introduction(out, folder))?;
    let mut walk = Walk { folder, common, number: 0, url: String::new() };
    let (last, first) = STEPS.split_last().map_or((None, &STEPS[..]), |(l, f)| (Some(l), f));
    first.iter().try_for_each(|step| walk.step(step))?;
    let stand_in = live::start(folder)?;
    walk.url = stand_in.devices[0].url();
    for step in &live::STEPS {
        if step.title == live::BY_HAND {
            live::by_hand(&stand_in);
        }
        walk.step(step)?;
    }
    drop(stand_in);
    last.map_or(Ok(()), |step| walk.step(step))?;
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

/// The walk through the steps.
struct Walk<'a> {
    folder: &'a Path,
    common: &'a Common,
    number: usize,
    /// Where the stand-in is.
    url: String,
}

impl Walk<'_> {
    /// Shows a step and its output.
    fn step(&mut self, step: &Step) -> Result<(), Failure> {
        self.number += 1;
        let word = |a: &&str| {
            a.replace('@', &self.folder.display().to_string()).replace(live::URL, &self.url)
        };
        let words: Vec<String> = step.arguments.iter().map(word).collect();
        output::answer(|out| {
            writeln!(out, "{BOLD}{}. {}{BOLD:#}", self.number, step.title)?;
            writeln!(
                out,
                "{GOOD}$ zarnet {}{GOOD:#}\n",
                words.iter().map(|w| quoted(w)).collect::<Vec<_>>().join(" ")
            )
        })?;
        let typed = std::iter::once("zarnet".to_owned()).chain(words);
        let mut arguments =
            Arguments::try_parse_from(typed).map_err(|e| io::Error::other(e.to_string()))?;
        let format = arguments.common.format;
        arguments.common = Common { format, ..self.common.clone() };
        super::dispatch(&arguments)?;
        output::answer(|out| writeln!(out, "\n{BOLD}See{BOLD:#} {}\n", step.see))?;
        Ok(())
    }
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
    let faults =
        format!("{} small plans with one fault each, and the flow that shows it", FAULTS.len());
    writeln!(out, "  {:longest$}  {DIM}{faults}{DIM:#}", "faults/")?;
    writeln!(out)
}

/// A word as one would type it.
fn quoted(word: &str) -> String {
    if word.contains([' ', '>']) { format!("\"{word}\"") } else { word.to_owned() }
}
