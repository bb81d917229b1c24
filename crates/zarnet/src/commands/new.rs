//! `zarnet new FILE`

use std::net::IpAddr;
use std::path::Path;

use zarnet_core::net::Prefix;

use crate::args::{Common, New};
use crate::exit::{FINE, Failure};
use crate::files;
use crate::present::{diagnostic, output};

/// The plan that everybody starts from.
const START: &str = include_str!("start.toml");

pub fn run(args: &New, common: &Common) -> Result<u8, Failure> {
    let text = plan(args)?;
    if args.file == Path::new("-") {
        output::verbatim(text.as_bytes())?;
        return Ok(FINE);
    }
    files::write_new(&args.file, text.as_bytes(), args.force)?;
    let path = args.file.display();
    let next = format!(
        "wrote {path}; next: zarnet predict {path} \"{} -> 198.51.100.80:443/tcp\"",
        example(args)?
    );
    diagnostic::note(common.quiet, &next);
    Ok(FINE)
}

fn plan(args: &New) -> Result<String, Failure> {
    let (internal, inside) = address("--internal", &args.internal)?;
    let (external, outside) = address("--external", &args.external)?;
    if inside.length() > 29 {
        let help = "give an internal prefix of length 29 or shorter".to_owned();
        return Err(Failure::wrong(
            "prefix-too-small",
            format!("{inside} has no room for a server"),
            help,
        ));
    }
    let free = |prefix: Prefix, taken: &[IpAddr]| {
        let mut all = (1..).map_while(|n| prefix.range().nth(n));
        all.find(|a| !taken.contains(a)).unwrap_or(prefix.last())
    };
    let gateway = match &args.gateway {
        None => free(outside, &[external]),
        Some(text) => {
            text.parse().ok().filter(|g| outside.contains(*g) && *g != external).ok_or_else(
                || {
                    let help = format!("give another address of {outside}");
                    Failure::wrong(
                        "notation",
                        format!("--gateway: `{text}` is no next hop on {outside}"),
                        help,
                    )
                },
            )?
        }
    };
    let wrong_name = args.device.is_empty()
        || args.device.chars().any(|c| c.is_control() || matches!(c, '"' | '\\'));
    if wrong_name {
        return Err(Failure::wrong(
            "notation",
            "--device: not a name",
            "use letters, digits and dashes".to_owned(),
        ));
    }
    let server = free(inside, &[internal, free(inside, &[internal])]);
    let values = [
        ("{NAME}", format!("{}, a start", args.device)),
        ("{DEVICE}", args.device.clone()),
        ("{INSIDE}", inside.to_string()),
        ("{LENGTH}", inside.length().to_string()),
        ("{INTERNAL}", internal.to_string()),
        ("{EXTERNAL}", format!("{external}/{}", outside.length())),
        ("{GATEWAY}", gateway.to_string()),
        ("{SERVER}", server.to_string()),
    ];
    Ok(values.iter().fold(START.to_owned(), |text, (name, value)| text.replace(name, value)))
}

/// An IPv4 address with its prefix.
fn address(option: &str, text: &str) -> Result<(IpAddr, Prefix), Failure> {
    let parsed = Prefix::parse_with_address(text);
    let v4 = parsed.as_ref().is_ok_and(|(a, _)| a.is_ipv4());
    match parsed {
        Ok(parsed) if v4 => Ok(parsed),
        Ok(_) => Err(Failure::wrong("notation", format!("{option}: `{text}` is not IPv4"), None)),
        Err(error) => Err(Failure::wrong(
            "notation",
            format!("{option}: {error}"),
            "write 10.20.0.1/24".to_owned(),
        )),
    }
}

/// An internal address to try the plan with.
fn example(args: &New) -> Result<IpAddr, Failure> {
    let (_, inside) = address("--internal", &args.internal)?;
    Ok(inside.range().nth(inside.range().count() - 2).unwrap_or(inside.first()))
}
