//! The columns of a file: the contract with whoever else reads it (docs/log.md).

use std::sync::{Arc, OnceLock};

use parquet::basic::{Compression, Encoding, ZstdLevel};
use parquet::file::properties::{EnabledStatistics, WriterProperties, WriterVersion};
use parquet::schema::parser::parse_message_type;
use parquet::schema::types::{ColumnPath, TypePtr};

use super::{GROUP, Order, PAGE};

/// Columns by their positions.
pub(super) const EXTERNAL_UPPER: usize = 0;
pub(super) const EXTERNAL: usize = 1;
pub(super) const EXTERNAL_PORT: usize = 2;
pub(super) const EXTERNAL_PORT_LAST: usize = 3;
pub(super) const PROTOCOL: usize = 4;
pub(super) const BEGUN: usize = 5;
pub(super) const LASTED: usize = 6;
pub(super) const UNSEEN: usize = 7;
pub(super) const INTERNAL_UPPER: usize = 8;
pub(super) const INTERNAL: usize = 9;
pub(super) const INTERNAL_PORT: usize = 10;
pub(super) const PEER_UPPER: usize = 11;
pub(super) const PEER: usize = 12;
pub(super) const PEER_PORT: usize = 13;
pub(super) const RULE: usize = 14;
pub(super) const ENDED_BY: usize = 15;

const SCHEMA: &str = "message translation {
    optional int64 external_upper;
    required int64 external;
    optional int32 external_port;
    optional int32 external_port_last;
    optional int32 protocol;
    required int64 begun (TIMESTAMP(MILLIS,true));
    optional int64 lasted;
    optional int32 unseen;
    optional int64 internal_upper;
    required int64 internal;
    optional int32 internal_port;
    optional int64 peer_upper;
    optional int64 peer;
    optional int32 peer_port;
    optional int32 rule;
    optional int32 ended_by;
}";

/// The schema of every file.
pub(super) fn schema() -> TypePtr {
    static PARSED: OnceLock<TypePtr> = OnceLock::new();
    let parsed = || match parse_message_type(SCHEMA) {
        Ok(schema) => Arc::new(schema),
        Err(error) => unreachable!("the schema is a constant: {error}"),
    };
    PARSED.get_or_init(parsed).clone()
}

/// How the columns are written, as it was measured to be smallest and fastest (docs/speed.md).
pub(super) fn properties(order: Order) -> WriterProperties {
    let path = |name: &str| ColumnPath::from(name.to_owned());
    let level = ZstdLevel::try_new(3).unwrap_or_default();
    let mut properties = WriterProperties::builder()
        .set_writer_version(WriterVersion::PARQUET_2_0)
        .set_compression(Compression::ZSTD(level))
        .set_data_page_row_count_limit(PAGE)
        .set_write_batch_size(PAGE)
        .set_max_row_group_row_count(Some(GROUP))
        .set_statistics_enabled(EnabledStatistics::None);
    let (sorted, other) = match order {
        Order::External => ("external", "internal"),
        Order::Internal => ("internal", "external"),
    };
    // what changes little from row to row is kept by its differences
    for name in [sorted, "begun", "external_port"] {
        properties = properties
            .set_column_dictionary_enabled(path(name), false)
            .set_column_encoding(path(name), Encoding::DELTA_BINARY_PACKED);
    }
    // and what is a small number of any size, by its octets one after the other
    for name in ["lasted", "internal_port"] {
        properties = properties
            .set_column_dictionary_enabled(path(name), false)
            .set_column_encoding(path(name), Encoding::BYTE_STREAM_SPLIT);
    }
    // by pages where that finds something, by files for other engines
    let (upper, port) = match order {
        Order::External => ("external_upper", EnabledStatistics::Page),
        Order::Internal => ("internal_upper", EnabledStatistics::None),
    };
    for (name, statistics) in [
        (sorted, EnabledStatistics::Page),
        (upper, EnabledStatistics::Page),
        ("external_port", port),
        ("begun", EnabledStatistics::Page),
        (other, EnabledStatistics::Chunk),
    ] {
        properties = properties.set_column_statistics_enabled(path(name), statistics);
    }
    properties.build()
}

/// Values of `unseen`.
pub(super) const NO_END: i32 = 1;
pub(super) const NO_BEGINNING: i32 = 2;
