//! Single pieces of traffic formats, read from memory: nothing is played. For fuzz targets, and for
//! measuring what reading alone costs. Plans are read this way by [`crate::plan::draft`], tables of
//! devices by [`crate::observed::parse`].

use std::io::Cursor;
use std::sync::Arc;

use zarnet_core::plan::{DeviceId, InterfaceId};
use zarnet_core::traffic::Flow;

use super::capture::Capture;
use super::clock::Clock;
use super::csv_fast;
use super::csv_list::careful;
use super::fields::{COLUMNS, Column, Context};
use super::input::{Contents, Failure};
use super::stretch::ROOM;
use super::{Fault, Names, json_list};

/// Columns of the lines that [`csv_line`] reads, in their order: those of the documentation.
fn columns() -> impl Iterator<Item = Column> {
    COLUMNS.iter().map(|c| c.1).filter(|c| *c != Column::RoundTrip)
}

/// A line of a flow list whose columns are
/// `start,protocol,source,source-port,destination,destination-port,lasts,ends`. It is read both
/// ways, the quick and the careful one, which must agree.
///
/// # Errors
/// What is wrong with it.
pub fn csv_line(line: &[u8], names: &Names) -> Result<Flow, Fault> {
    let columns: Vec<Column> = columns().collect();
    let flow = careful(line, &columns, &mut Context { names, clock: &mut Clock::default() });
    let mut padded = [0; ROOM];
    let fits = line.len() < ROOM && !line.contains(&b'\n') && names.are_plain();
    if fits {
        padded[..line.len()].copy_from_slice(line);
        padded[line.len()] = b'\n';
        if let Some((quick, _)) =
            csv_fast::flow(&padded, columns.len()).filter(|q| q.1 == line.len() + 1)
        {
            assert_eq!(Ok(quick), flow, "read quickly and carefully");
        }
    }
    flow
}

/// A line of a list in JSON Lines.
///
/// # Errors
/// What is wrong with it.
pub fn json_line(line: &[u8], names: &Names) -> Result<Flow, Fault> {
    json_list::careful(line, &mut Context { names, clock: &mut Clock::default() })
}

/// A frame of a link type of the capture formats; whether it says anything.
pub fn frame(link: i32, octets: &[u8]) -> bool {
    super::decode::decode(link, octets).is_ok()
}

/// Reads a capture to its end, and tells how many of its packets say something.
///
/// # Errors
/// What is wrong with it as a whole, or with a block of it.
pub fn capture(octets: &Arc<[u8]>) -> Result<u64, Fault> {
    let contents =
        Contents { reader: Box::new(Cursor::new(octets.clone())), failure: Failure::default() };
    let mut capture = Capture::new(contents, (DeviceId(0), InterfaceId(0)))?;
    let mut packets = 0;
    loop {
        capture.take_usual(|_, _| {
            packets += 1;
            true
        });
        match capture.next_decoded() {
            None => return Ok(packets),
            Some(Ok(_)) => packets += 1,
            Some(Err(fault)) => return Err(fault),
        }
    }
}
