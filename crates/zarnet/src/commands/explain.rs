//! `zarnet explain NAME`: the page of a finding, reason, cause or error, from the documentation
//! itself.

use crate::args::{Common, Explain, Format};
use crate::exit::{FINE, Failure};
use crate::render::table::{BOLD, DIM};
use crate::render::{json, output};

/// The pages that explain names, and what their names are.
const PAGES: [(&str, &str, &str); 5] = [
    ("a finding of `check`", "docs/findings.md", include_str!("../../../../docs/findings.md")),
    (
        "why a flow is not translated",
        "docs/reasons.md",
        include_str!("../../../../docs/reasons.md"),
    ),
    (
        "a cause that `why` or `compare` names",
        "docs/why.md",
        include_str!("../../../../docs/why.md"),
    ),
    ("what `capacity` says", "docs/capacity.md", include_str!("../../../../docs/capacity.md")),
    ("what is wrong with an input", "docs/errors.md", include_str!("../../../../docs/errors.md")),
];

/// A row of a table of the documentation.
struct Entry {
    kind: &'static str,
    page: &'static str,
    name: String,
    /// Headings and what stands under them.
    cells: Vec<(String, String)>,
}

fn cells(line: &str) -> Vec<String> {
    line.trim()
        .trim_matches('|')
        .split(" | ")
        .map(|c| c.trim().trim_matches('|').trim().to_owned())
        .collect()
}

fn entries() -> Vec<Entry> {
    let mut list = Vec::new();
    for (kind, page, text) in PAGES {
        let mut heading: Vec<String> = Vec::new();
        for line in text.lines() {
            let row = line.starts_with("| ") && !line.starts_with("| ---");
            if !row {
                if !line.starts_with('|') {
                    heading.clear();
                }
                continue;
            }
            let parts = cells(line);
            if heading.is_empty() {
                heading = parts;
                continue;
            }
            let names =
                parts[0].split(',').filter_map(|n| n.trim().strip_prefix('`')?.strip_suffix('`'));
            for name in names {
                let rest =
                    heading.iter().skip(1).cloned().zip(parts.iter().skip(1).cloned()).collect();
                list.push(Entry { kind, page, name: name.to_owned(), cells: rest });
            }
        }
    }
    list
}

/// What a name means, in one sentence.
pub fn sentence(name: &str) -> Option<String> {
    let found = entries().into_iter().find(|e| e.name == name)?;
    found.cells.into_iter().find(|c| c.0.contains("means")).map(|c| c.1)
}

pub fn run(args: &Explain, common: &Common) -> Result<u8, Failure> {
    let all = entries();
    let Some(name) = &args.name else {
        output::answer(|out| {
            for (kind, page, _) in PAGES {
                let names: Vec<&str> =
                    all.iter().filter(|e| e.page == page).map(|e| e.name.as_str()).collect();
                writeln!(
                    out,
                    "{BOLD}{kind}{BOLD:#} {DIM}({page}){DIM:#}\n  {}\n",
                    names.join(", ")
                )?;
            }
            Ok(())
        })?;
        return Ok(FINE);
    };
    let found: Vec<&Entry> = all.iter().filter(|e| e.name == *name).collect();
    if found.is_empty() {
        let near = zarnet_core::plan::nearest(name, all.iter().map(|e| e.name.as_str()));
        let help = near.map_or("`zarnet explain` lists every name".to_owned(), |n| {
            format!("did you mean `{n}`?")
        });
        return Err(Failure::wrong("unknown-name", format!("nothing is called `{name}`"), help));
    }
    if common.format == Format::Json {
        let entry = |e: &&Entry| {
            let cells: serde_json::Map<String, serde_json::Value> =
                e.cells.iter().map(|(k, v)| (k.replace(' ', "-"), v.clone().into())).collect();
            serde_json::json!({ "name": e.name, "kind": e.kind, "page": e.page, "text": cells })
        };
        let list: Vec<_> = found.iter().map(entry).collect();
        output::json(|out| json::write(out, &serde_json::json!({ "shape": 1, "entries": list })))?;
        return Ok(FINE);
    }
    output::answer(|out| {
        for e in found {
            writeln!(out, "{BOLD}{}{BOLD:#} {DIM}{}{DIM:#}", e.name, e.kind)?;
            for (heading, text) in &e.cells {
                writeln!(out, "  {heading:<14}  {text}")?;
            }
            writeln!(out, "  {DIM}{}{DIM:#}", e.page)?;
        }
        Ok(())
    })?;
    Ok(FINE)
}
