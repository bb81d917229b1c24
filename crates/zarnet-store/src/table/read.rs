//! Reads files of records: what is looked for, or all of it.

use std::fs::File;
use std::net::IpAddr;
use std::ops::Range;
use std::path::Path;
use std::sync::Arc;

use parquet::column::reader::{ColumnReaderImpl, get_typed_column_reader};
use parquet::data_type::{DataType, Int32Type, Int64Type};
use parquet::errors::{ParquetError, Result};
use parquet::file::metadata::page_index::RowGroupPageIndex;
use parquet::file::metadata::{
    ColumnChunkMask, PageIndexPolicy, ParquetMetaData, ParquetMetaDataReader,
};
use parquet::file::properties::{ReaderProperties, ReaderPropertiesPtr};
use parquet::file::reader::RowGroupReader;
use parquet::file::serialized_reader::SerializedRowGroupReader;
use parquet::file::statistics::Statistics;
use zarnet_core::net::Protocol;
use zarnet_formats::nat_log::cause_of_number;

use super::Order;
use super::column::{self, *};
use super::pages::{both, numbers, pages, words};
use crate::guard::guarded;
use crate::record::{Record, Unseen, halves, joined};

/// What is looked for in a file.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Sought {
    /// The address that the file is sorted by.
    pub address: IpAddr,
    /// External ports: the record begins with one of them.
    pub ports: Option<(u16, u16)>,
    /// Beginnings.
    pub begun: (i64, i64),
}

/// A file of records.
pub(crate) struct TableReader {
    file: Arc<File>,
    metadata: ParquetMetaData,
    order: Order,
    properties: ReaderPropertiesPtr,
}

impl TableReader {
    pub(crate) fn open(path: &Path, order: Order) -> Result<Self> {
        let file = Arc::new(File::open(path)?);
        guarded(|| Self::of(file, order))
    }

    fn of(file: Arc<File>, order: Order) -> Result<Self> {
        let metadata = ParquetMetaDataReader::new()
            .with_page_index_policy(PageIndexPolicy::Skip)
            .parse_and_finish(&*file)?;
        if metadata.file_metadata().schema() != schema().as_ref() {
            return Err(ParquetError::General("its columns are those of no such store".into()));
        }
        let properties = Arc::new(ReaderProperties::builder().build());
        Ok(Self { file, metadata, order, properties })
    }

    /// How many records it has.
    pub(crate) fn rows(&self) -> u64 {
        self.metadata.file_metadata().num_rows().max(0) as u64
    }

    /// Every record that is looked for.
    pub(crate) fn find(self, sought: &Sought, take: &mut impl FnMut(Record)) -> Result<()> {
        guarded(|| self.find_in_groups(sought, take))
    }

    fn find_in_groups(mut self, sought: &Sought, take: &mut impl FnMut(Record)) -> Result<()> {
        let (sorted, upper) = match self.order {
            Order::External => (EXTERNAL, EXTERNAL_UPPER),
            Order::Internal => (INTERNAL, INTERNAL_UPPER),
        };
        let (high, low) = halves(sought.address);
        let within = |statistics: Option<&Statistics>, first: i64, last: i64| match statistics {
            Some(Statistics::Int64(s)) => match (s.min_opt(), s.max_opt()) {
                (Some(min), Some(max)) => *min <= last && *max >= first,
                _ => true,
            },
            _ => true,
        };
        let may_have = |group: &usize| {
            let columns = self.metadata.row_group(*group);
            within(columns.column(sorted).statistics(), low, low)
                && within(columns.column(BEGUN).statistics(), sought.begun.0, sought.begun.1)
        };
        let groups: Vec<usize> = (0..self.metadata.num_row_groups()).filter(may_have).collect();
        if groups.is_empty() {
            return Ok(());
        }
        let mut with_index = ParquetMetaDataReader::new_with_metadata(self.metadata)
            .with_page_index_policy(PageIndexPolicy::Optional)
            .with_page_index_mask(ColumnChunkMask::row_groups(groups.iter().copied()));
        with_index.read_page_indexes(&*self.file)?;
        self.metadata = with_index.finish()?;
        let mut groups = groups.into_iter();
        groups.try_for_each(|group| {
            self.find_in_group(group, (sorted, upper), (high, low), sought, take)
        })
    }

    fn find_in_group(
        &self,
        group: usize,
        (sorted, upper): (usize, usize),
        (high, low): (Option<i64>, i64),
        sought: &Sought,
        take: &mut impl FnMut(Record),
    ) -> Result<()> {
        let metadata = &self.metadata;
        let index = metadata.page_index_for_row_group(group);
        let rows = metadata.row_group(group).num_rows().max(0) as usize;
        let mut wanted = pages(&index, sorted, rows, |i, p| numbers(i, p, low, low));
        if let Some(high) = high {
            wanted = both(&wanted, &pages(&index, upper, rows, |i, p| numbers(i, p, high, high)));
        }
        if let (Some((first, last)), Order::External) = (sought.ports, self.order) {
            let (first, last) = (first.into(), last.into());
            let pages = pages(&index, EXTERNAL_PORT, rows, |i, p| words(i, p, first, last));
            wanted = both(&wanted, &pages);
        }
        let (first, last) = sought.begun;
        wanted = both(&wanted, &pages(&index, BEGUN, rows, |i, p| numbers(i, p, first, last)));
        if wanted.is_empty() {
            return Ok(());
        }
        let properties = self.properties.clone();
        let reader = SerializedRowGroupReader::new(
            self.file.clone(),
            metadata.row_group(group),
            index,
            properties,
        )?;
        for range in wanted {
            self.find_in_rows(&reader, (sorted, upper), (high, low), range, sought, take)?;
        }
        Ok(())
    }

    /// Looks at rows: first at what decides, then at the rest of those that fit.
    fn find_in_rows(
        &self,
        reader: &dyn RowGroupReader,
        (sorted, upper): (usize, usize),
        (high, low): (Option<i64>, i64),
        range: Range<usize>,
        sought: &Sought,
        take: &mut impl FnMut(Record),
    ) -> Result<()> {
        let (from, rows) = (range.start, range.len());
        let lower = Column::<Int64Type>::new(reader, sorted, from)?.required(rows)?;
        let upper = Column::<Int64Type>::new(reader, upper, from)?.optional(rows)?;
        let fits = |n: usize| lower[n] == low && upper[n] == high;
        let first = (0..lower.len()).find(|n| fits(*n));
        let Some(first) = first else { return Ok(()) };
        let last = (first..lower.len()).rev().find(|n| fits(*n)).unwrap_or(first);
        let mut rows = range.start + first..range.start + last + 1;
        if let (Some((from, to)), Order::External) = (sought.ports, self.order) {
            let mut ports = Column::<Int32Type>::new(reader, EXTERNAL_PORT, rows.start)?;
            let ports = ports.optional(rows.len())?;
            let fits = |p: &Option<i32>| p.is_none_or(|p| (from.into()..=to.into()).contains(&p));
            let Some(first) = ports.iter().position(fits) else { return Ok(()) };
            let last = ports.iter().rposition(fits).unwrap_or(first);
            rows = rows.start + first..rows.start + last + 1;
        }
        let (from, to) = sought.begun;
        for record in Columns::new(reader, rows.start)?.next(rows.len())? {
            let address = match self.order {
                Order::External => record.external,
                Order::Internal => record.internal,
            };
            let has_port = match (sought.ports, record.ports) {
                (Some((from, to)), Some((first, _))) => (from..=to).contains(&first),
                _ => true,
            };
            if address == sought.address && has_port && (from..=to).contains(&record.begun) {
                take(record);
            }
        }
        Ok(())
    }

    /// All records, so many at a time, in their order.
    pub(crate) fn scan(
        &self,
        at_once: usize,
        take: &mut impl FnMut(Vec<Record>) -> Result<()>,
    ) -> Result<()> {
        guarded(|| self.scan_groups(at_once, take))
    }

    fn scan_groups(
        &self,
        at_once: usize,
        take: &mut impl FnMut(Vec<Record>) -> Result<()>,
    ) -> Result<()> {
        for group in 0..self.metadata.num_row_groups() {
            let rows = self.metadata.row_group(group).num_rows().max(0) as usize;
            let reader = SerializedRowGroupReader::new(
                self.file.clone(),
                self.metadata.row_group(group),
                RowGroupPageIndex::new(group, None),
                self.properties.clone(),
            )?;
            let mut columns = Columns::new(&reader, 0)?;
            for from in (0..rows).step_by(at_once) {
                take(columns.next(at_once.min(rows - from))?)?;
            }
        }
        Ok(())
    }
}

/// A column as it is read, from some row on.
struct Column<T: DataType>(ColumnReaderImpl<T>);

fn too_few() -> ParquetError {
    ParquetError::EOF("a column has fewer rows than the file says".into())
}

impl<T: DataType> Column<T>
where
    T::T: Copy,
{
    fn new(reader: &dyn RowGroupReader, column: usize, from: usize) -> Result<Self> {
        let mut of = get_typed_column_reader::<T>(reader.get_column_reader(column)?);
        of.skip_records(from)?;
        Ok(Self(of))
    }

    /// The next values, of a column that not every row has one of.
    fn optional(&mut self, rows: usize) -> Result<Vec<Option<T::T>>> {
        let (levels, values) = self.read(rows)?;
        let mut values = values.into_iter();
        let of = |level: &i16| if *level > 0 { values.next() } else { None };
        let all: Vec<Option<T::T>> = levels.iter().map(of).collect();
        if all.len() == rows { Ok(all) } else { Err(too_few()) }
    }

    /// The next values, of a column that every row has one of.
    fn required(&mut self, rows: usize) -> Result<Vec<T::T>> {
        let (_, values) = self.read(rows)?;
        if values.len() == rows { Ok(values) } else { Err(too_few()) }
    }

    fn read(&mut self, rows: usize) -> Result<(Vec<i16>, Vec<T::T>)> {
        let (mut levels, mut values, mut got) = (Vec::new(), Vec::new(), 0);
        while got < rows {
            let (read, _, _) =
                self.0.read_records(rows - got, Some(&mut levels), None, &mut values)?;
            if read == 0 {
                break;
            }
            got += read;
        }
        Ok((levels, values))
    }
}

/// The columns of whole records.
struct Columns {
    external_upper: Column<Int64Type>,
    external: Column<Int64Type>,
    port: Column<Int32Type>,
    port_last: Column<Int32Type>,
    protocol: Column<Int32Type>,
    begun: Column<Int64Type>,
    lasted: Column<Int64Type>,
    unseen: Column<Int32Type>,
    internal_upper: Column<Int64Type>,
    internal: Column<Int64Type>,
    internal_port: Column<Int32Type>,
    peer_upper: Column<Int64Type>,
    peer: Column<Int64Type>,
    peer_port: Column<Int32Type>,
    rule: Column<Int32Type>,
    ended_by: Column<Int32Type>,
}

impl Columns {
    fn new(of: &dyn RowGroupReader, from: usize) -> Result<Self> {
        Ok(Self {
            external_upper: Column::new(of, EXTERNAL_UPPER, from)?,
            external: Column::new(of, EXTERNAL, from)?,
            port: Column::new(of, EXTERNAL_PORT, from)?,
            port_last: Column::new(of, EXTERNAL_PORT_LAST, from)?,
            protocol: Column::new(of, PROTOCOL, from)?,
            begun: Column::new(of, BEGUN, from)?,
            lasted: Column::new(of, LASTED, from)?,
            unseen: Column::new(of, UNSEEN, from)?,
            internal_upper: Column::new(of, INTERNAL_UPPER, from)?,
            internal: Column::new(of, INTERNAL, from)?,
            internal_port: Column::new(of, INTERNAL_PORT, from)?,
            peer_upper: Column::new(of, PEER_UPPER, from)?,
            peer: Column::new(of, PEER, from)?,
            peer_port: Column::new(of, PEER_PORT, from)?,
            rule: Column::new(of, RULE, from)?,
            ended_by: Column::new(of, ENDED_BY, from)?,
        })
    }

    /// The next records.
    fn next(&mut self, rows: usize) -> Result<Vec<Record>> {
        let external_upper = self.external_upper.optional(rows)?;
        let external = self.external.required(rows)?;
        let (port, port_last) = (self.port.optional(rows)?, self.port_last.optional(rows)?);
        let protocol = self.protocol.optional(rows)?;
        let (begun, lasted) = (self.begun.required(rows)?, self.lasted.optional(rows)?);
        let unseen = self.unseen.optional(rows)?;
        let internal_upper = self.internal_upper.optional(rows)?;
        let internal = self.internal.required(rows)?;
        let internal_port = self.internal_port.optional(rows)?;
        let (peer_upper, peer) = (self.peer_upper.optional(rows)?, self.peer.optional(rows)?);
        let peer_port = self.peer_port.optional(rows)?;
        let (rule, ended_by) = (self.rule.optional(rows)?, self.ended_by.optional(rows)?);
        let port_of = |p: Option<i32>| p.and_then(|p| u16::try_from(p).ok());
        let octet_of = |n: Option<i32>| n.and_then(|n| u8::try_from(n).ok());
        let record = |n: usize| Record {
            external: joined(external_upper[n], external[n]),
            ports: port_of(port[n]).map(|first| (first, port_of(port_last[n]).unwrap_or(first))),
            protocol: octet_of(protocol[n]).map(Protocol),
            begun: begun[n],
            lasted: lasted[n].and_then(|l| u64::try_from(l).ok()).unwrap_or(0),
            unseen: match unseen[n] {
                Some(column::NO_END) => Some(Unseen::End),
                Some(_) => Some(Unseen::Beginning),
                None => None,
            },
            internal: joined(internal_upper[n], internal[n]),
            internal_port: port_of(internal_port[n]),
            peer: peer[n].map(|lower| joined(peer_upper[n], lower)),
            peer_port: port_of(peer_port[n]),
            rule: port_of(rule[n]),
            cause: octet_of(ended_by[n]).and_then(cause_of_number),
        };
        Ok((0..rows).map(record).collect())
    }
}
