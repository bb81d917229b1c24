//! Translation logs: what a device writes of the sessions and mappings that it makes and ends (RFC
//! 8158), in IPFIX (RFC 7011, files of RFC 5655), syslog (RFC 5424) and CSV, written and read.
//!
//! Whatever a log is written in, an event of it is a [`TranslationEvent`]. Reading never stops at
//! what is wrong: it is passed over and counted in [`Noted`].

mod csv_log;
mod element;
mod event;
mod fields;
mod input;
pub mod ipfix;
mod names;
mod noted;
mod of_run;
mod syslog;
mod time;

pub use csv_log::{CsvReader, LogColumns, csv_header, csv_line};
pub use element::Element;
pub use event::{EventKind, TranslationEvent, cause_name, cause_number};
pub use event::{cause_of_name, cause_of_number};
pub use input::{LogForm, LogFormat, LogRead, read_log};
pub use names::{LogNames, Name};
pub use noted::{Missing, Noted};
pub use of_run::OfRun;
pub use syslog::{Frames, MOST_IN_MESSAGE, parse_line, syslog_line};
pub use time::{TimeText, time_of};
