//! Records that wait to be written, and their two orders.

use std::io::Write;

use parquet::errors::Result;

use super::write::{Row, TableWriter};
use super::{GROUP, Order, buckets};
use crate::record::{Record, Short};

/// Records of one file to be.
#[derive(Debug, Clone, Default)]
pub(crate) struct Held {
    short: Vec<Short>,
    long: Vec<Record>,
    /// The earliest beginning and the latest end.
    span: Option<(i64, i64)>,
}

impl Held {
    pub(crate) fn push(&mut self, record: &Record) {
        let (first, last) = self.span.unwrap_or((record.begun, record.begun));
        let ended = record.gone_by().unwrap_or(record.begun);
        self.span = Some((first.min(record.begun), last.max(ended)));
        match Short::of(record) {
            Some(short) => self.short.push(short),
            None => self.long.push(*record),
        }
    }

    /// The same of one in short.
    #[inline]
    pub(crate) fn push_short(&mut self, short: Short) {
        let (first, last) = self.span.unwrap_or((short.begun, short.begun));
        let ended = short.begun + i64::from(short.lasted);
        self.span = Some((first.min(short.begun), last.max(ended)));
        self.short.push(short);
    }

    pub(crate) fn len(&self) -> usize {
        self.short.len() + self.long.len()
    }

    /// The earliest beginning and the latest end.
    pub(crate) fn span(&self) -> (i64, i64) {
        self.span.unwrap_or_default()
    }

    /// Writes all of them in an order, each once, and tells how many those are.
    pub(crate) fn write<W: Write + Send>(&self, out: W, order: Order) -> Result<(W, u64)> {
        let mut writer = TableWriter::new(out, order)?;
        let rows = if self.long.is_empty() {
            let mut groups = Groups::new(&mut writer);
            buckets::sorted(&self.short, order, |row| groups.push(row))?;
            groups.finish()?
        } else {
            let mut all: Vec<Record> = self.short.iter().map(Short::record).collect();
            all.extend(&self.long);
            match order {
                Order::External => all.sort_unstable_by_key(Record::external_order),
                Order::Internal => all.sort_unstable_by_key(Record::internal_order),
            }
            let mut groups = Groups::new(&mut writer);
            all.into_iter().try_for_each(|row| groups.push(row))?;
            groups.finish()?
        };
        Ok((writer.finish()?, rows))
    }
}

/// Rows on their way into a file, by groups, leaving out those that are equal to the one before.
struct Groups<'a, R, W: Write + Send> {
    writer: &'a mut TableWriter<W>,
    group: Vec<R>,
    written: u64,
}

impl<'a, R: Row + PartialEq, W: Write + Send> Groups<'a, R, W> {
    fn new(writer: &'a mut TableWriter<W>) -> Self {
        Self { writer, group: Vec::new(), written: 0 }
    }

    #[inline]
    fn push(&mut self, row: R) -> Result<()> {
        if self.group.last() == Some(&row) {
            return Ok(());
        }
        if self.group.len() == GROUP {
            self.flush()?;
        }
        self.group.push(row);
        Ok(())
    }

    fn flush(&mut self) -> Result<()> {
        self.writer.write(&self.group)?;
        self.written += self.group.len() as u64;
        self.group.clear();
        Ok(())
    }

    fn finish(mut self) -> Result<u64> {
        self.flush()?;
        Ok(self.written)
    }
}
