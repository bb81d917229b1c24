//! What a stand-in says when it has started.

use std::io::{self, Write};

use serde::Serialize;
use zarnet_analysis::answer::{Answer, Row, SHAPE};
use zarnet_live::stand_in::Listening;

use crate::present::table::{self, BOLD, Cell, Column, DIM};

/// Where devices are.
pub struct Started {
    devices: Vec<StartedDevice>,
    access: Option<String>,
}

/// A device, and where it is. Its token is nobody's business here.
#[derive(Serialize)]
pub struct StartedDevice {
    device: String,
    url: String,
    pin: String,
}

/// The answer as a shape.
#[derive(Serialize)]
pub struct StartedShape<'a> {
    shape: u32,
    devices: &'a [StartedDevice],
    access: Option<&'a str>,
}

impl Started {
    /// The devices that listen, and the file that tells how they are reached.
    pub fn new(devices: &[&Listening], access: Option<String>) -> Self {
        let one = |d: &&Listening| StartedDevice {
            device: d.device.clone(),
            url: d.url(),
            pin: d.fingerprint.to_string(),
        };
        Self { devices: devices.iter().map(one).collect(), access }
    }
}

impl Answer for Started {
    type Shape<'s> = StartedShape<'s>;

    fn shape(&self) -> StartedShape<'_> {
        StartedShape { shape: SHAPE, devices: &self.devices, access: self.access.as_deref() }
    }

    fn columns(&self) -> &'static [&'static str] {
        &["device", "url", "pin"]
    }

    fn rows(&self, out: &mut dyn Write) -> io::Result<()> {
        let mut row = Row::default();
        for d in &self.devices {
            [&d.device, &d.url, &d.pin].into_iter().for_each(|t| row.text(t));
            row.write(out)?;
        }
        Ok(())
    }
}

/// Writes the answer as text.
pub fn text(answer: &Started, out: &mut dyn Write, width: usize) -> io::Result<()> {
    writeln!(out, "{BOLD}Standing in{BOLD:#} until it is interrupted")?;
    let columns =
        [Column::text("DEVICE"), Column::text("URL"), Column::text("FINGERPRINT").expendable(1)];
    let rows: Vec<Vec<Cell>> = answer
        .devices
        .iter()
        .map(|d| [&d.device, &d.url, &d.pin].into_iter().map(|t| t.as_str().into()).collect())
        .collect();
    table::write(out, &columns, &rows, width)?;
    let hint = match &answer.access {
        Some(path) => format!("--access {path} tells other commands how they are reached"),
        None => "nobody knows the token: start it with --access FILE to be told".to_owned(),
    };
    writeln!(out, "{DIM}{hint}{DIM:#}")
}
