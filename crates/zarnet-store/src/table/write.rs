//! Writes a file of records.

use std::io::Write;
use std::sync::Arc;

use parquet::column::writer::ColumnWriterImpl;
use parquet::data_type::{DataType, Int32Type, Int64Type};
use parquet::errors::Result;
use parquet::file::writer::{SerializedFileWriter, SerializedRowGroupWriter};
use zarnet_formats::nat_log::cause_number;

use super::column::{self, properties, schema};
use super::{GROUP, Order};
use crate::record::{Record, Short, Unseen, halves};

/// A record, as long or as short as it is kept in memory.
pub(crate) trait Row: Copy {
    /// Whether all of them are IPv4, of one port, for any peer, with both ends logged: those
    /// columns are then known without looking at every row.
    const IS_SHORT: bool;

    fn external(&self) -> (Option<i64>, i64);
    fn ports(&self) -> Option<(u16, u16)>;
    fn protocol(&self) -> Option<u8>;
    fn begun(&self) -> i64;
    fn lasted(&self) -> Option<u64>;
    fn unseen(&self) -> Option<Unseen>;
    fn internal(&self) -> (Option<i64>, i64);
    fn internal_port(&self) -> Option<u16>;
    fn peer(&self) -> Option<(Option<i64>, i64)>;
    fn peer_port(&self) -> Option<u16>;
    fn rule(&self) -> Option<u16>;
    fn cause(&self) -> Option<u8>;
}

impl Row for Record {
    const IS_SHORT: bool = false;

    fn external(&self) -> (Option<i64>, i64) {
        halves(self.external)
    }
    fn ports(&self) -> Option<(u16, u16)> {
        self.ports
    }
    fn protocol(&self) -> Option<u8> {
        self.protocol.map(|p| p.0)
    }
    fn begun(&self) -> i64 {
        self.begun
    }
    fn lasted(&self) -> Option<u64> {
        (self.unseen.is_none() || self.lasted > 0).then_some(self.lasted)
    }
    fn unseen(&self) -> Option<Unseen> {
        self.unseen
    }
    fn internal(&self) -> (Option<i64>, i64) {
        halves(self.internal)
    }
    fn internal_port(&self) -> Option<u16> {
        self.internal_port
    }
    fn peer(&self) -> Option<(Option<i64>, i64)> {
        self.peer.map(halves)
    }
    fn peer_port(&self) -> Option<u16> {
        self.peer_port
    }
    fn rule(&self) -> Option<u16> {
        self.rule
    }
    fn cause(&self) -> Option<u8> {
        self.cause.map(cause_number)
    }
}

impl Row for Short {
    const IS_SHORT: bool = true;

    #[inline(always)]
    fn external(&self) -> (Option<i64>, i64) {
        (None, self.external.into())
    }
    #[inline(always)]
    fn ports(&self) -> Option<(u16, u16)> {
        Some((self.external_port, self.external_port))
    }
    #[inline(always)]
    fn protocol(&self) -> Option<u8> {
        Some(self.protocol)
    }
    #[inline(always)]
    fn begun(&self) -> i64 {
        self.begun
    }
    #[inline(always)]
    fn lasted(&self) -> Option<u64> {
        Some(self.lasted.into())
    }
    #[inline(always)]
    fn unseen(&self) -> Option<Unseen> {
        None
    }
    #[inline(always)]
    fn internal(&self) -> (Option<i64>, i64) {
        (None, self.internal.into())
    }
    #[inline(always)]
    fn internal_port(&self) -> Option<u16> {
        Some(self.internal_port)
    }
    #[inline(always)]
    fn peer(&self) -> Option<(Option<i64>, i64)> {
        None
    }
    #[inline(always)]
    fn peer_port(&self) -> Option<u16> {
        None
    }
    #[inline(always)]
    fn rule(&self) -> Option<u16> {
        (self.rule != u16::MAX).then_some(self.rule)
    }
    #[inline(always)]
    fn cause(&self) -> Option<u8> {
        (self.cause != 0).then_some(self.cause)
    }
}

/// Writes rows that come in the order of the file.
pub(crate) struct TableWriter<W: Write + Send> {
    file: SerializedFileWriter<W>,
    /// Room for one column.
    long: Vec<i64>,
    word: Vec<i32>,
    levels: Vec<i16>,
}

impl<W: Write + Send> TableWriter<W> {
    pub(crate) fn new(out: W, order: Order) -> Result<Self> {
        let file = SerializedFileWriter::new(out, schema(), Arc::new(properties(order)))?;
        Ok(Self { file, long: Vec::new(), word: Vec::new(), levels: Vec::new() })
    }

    /// Writes a row group: at most [`GROUP`] rows.
    pub(crate) fn write<R: Row>(&mut self, rows: &[R]) -> Result<()> {
        debug_assert!(rows.len() <= GROUP);
        if rows.is_empty() {
            return Ok(());
        }
        let (none, all) = match R::IS_SHORT {
            true => (Known::None, Known::All),
            false => (Known::No, Known::No),
        };
        let Self { file, long, word, levels } = self;
        let mut columns = Columns { group: file.next_row_group()?, long, word, levels };
        columns.optional_long(rows, none, |r| r.external().0)?;
        columns.long(rows, |r| r.external().1)?;
        columns.optional_word(rows, all, |r| r.ports().map(|p| p.0.into()))?;
        let last = |r: &R| r.ports().filter(|p| p.0 != p.1).map(|p| p.1.into());
        columns.optional_word(rows, none, last)?;
        columns.optional_word(rows, all, |r| r.protocol().map(i32::from))?;
        columns.long(rows, Row::begun)?;
        columns.optional_long(rows, all, |r| r.lasted().map(|l| l.min(i64::MAX as u64) as i64))?;
        columns.optional_word(rows, none, |r| {
            r.unseen().map(|u| match u {
                Unseen::End => column::NO_END,
                Unseen::Beginning => column::NO_BEGINNING,
            })
        })?;
        columns.optional_long(rows, none, |r| r.internal().0)?;
        columns.long(rows, |r| r.internal().1)?;
        columns.optional_word(rows, all, |r| r.internal_port().map(i32::from))?;
        columns.optional_long(rows, none, |r| r.peer().and_then(|p| p.0))?;
        columns.optional_long(rows, none, |r| r.peer().map(|p| p.1))?;
        columns.optional_word(rows, none, |r| r.peer_port().map(i32::from))?;
        columns.optional_word(rows, Known::No, |r| r.rule().map(i32::from))?;
        columns.optional_word(rows, Known::No, |r| r.cause().map(i32::from))?;
        columns.group.close()?;
        Ok(())
    }

    /// Writes the end of the file, and gives back what it was written to.
    pub(crate) fn finish(self) -> Result<W> {
        self.file.into_inner()
    }
}

/// The columns of a row group, one after the other.
struct Columns<'a, W: Write + Send> {
    group: SerializedRowGroupWriter<'a, W>,
    long: &'a mut Vec<i64>,
    word: &'a mut Vec<i32>,
    levels: &'a mut Vec<i16>,
}

/// What is known of a column without looking.
#[derive(Clone, Copy)]
enum Known {
    No,
    /// No row has a value.
    None,
    /// Every row has one.
    All,
}

/// Splits what is there into values, and whether each row has one.
#[inline(always)]
fn split<R, T>(
    rows: &[R],
    known: Known,
    get: impl Fn(&R) -> Option<T>,
    values: &mut Vec<T>,
    levels: &mut Vec<i16>,
) {
    values.clear();
    levels.clear();
    match known {
        Known::None => levels.resize(rows.len(), 0),
        Known::All => {
            levels.resize(rows.len(), 1);
            values.extend(rows.iter().filter_map(get));
        }
        Known::No => {
            for row in rows {
                let value = get(row);
                levels.push(value.is_some().into());
                values.extend(value);
            }
        }
    }
}

impl<W: Write + Send> Columns<'_, W> {
    fn put<T: DataType>(
        group: &mut SerializedRowGroupWriter<'_, W>,
        write: impl FnOnce(&mut ColumnWriterImpl<'_, T>) -> Result<usize>,
    ) -> Result<()> {
        let Some(mut column) = group.next_column()? else { return Ok(()) };
        write(column.typed::<T>())?;
        column.close()
    }

    fn long<R>(&mut self, rows: &[R], get: impl Fn(&R) -> i64) -> Result<()> {
        self.long.clear();
        self.long.extend(rows.iter().map(get));
        Self::put::<Int64Type>(&mut self.group, |c| c.write_batch(self.long, None, None))
    }

    fn optional_long<R>(
        &mut self,
        rows: &[R],
        known: Known,
        get: impl Fn(&R) -> Option<i64>,
    ) -> Result<()> {
        split(rows, known, get, self.long, self.levels);
        let levels = Some(&self.levels[..]);
        Self::put::<Int64Type>(&mut self.group, |c| c.write_batch(self.long, levels, None))
    }

    fn optional_word<R>(
        &mut self,
        rows: &[R],
        known: Known,
        get: impl Fn(&R) -> Option<i32>,
    ) -> Result<()> {
        split(rows, known, get, self.word, self.levels);
        let levels = Some(&self.levels[..]);
        Self::put::<Int32Type>(&mut self.group, |c| c.write_batch(self.word, levels, None))
    }
}
