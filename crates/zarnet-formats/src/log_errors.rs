//! What can be wrong with translation logs, with sending and recording them, and with a store of them.

use zarnet_core::plan::ErrorKind;

/// Every error with what it means and what to do.
pub const LOG_ERRORS: &[ErrorKind] = &[
    ErrorKind {
        name: "begins-missing",
        means: "A log has times of day, and the traffic has none.",
        advice: "--begins 2026-08-01T06:00:00Z says when the first of it happens.",
    },
    ErrorKind {
        name: "nothing-logged",
        means: "No rule of the plan is logged.",
        advice: "Set `log` in a rule, or give --as sessions, --as mappings or --as blocks.",
    },
    ErrorKind {
        name: "no-blocks",
        means: "Blocks are to be logged, and no device hands out blocks of ports.",
        advice: "Set `block-size` in the behaviour of a device, or log mappings.",
    },
    ErrorKind {
        name: "not-a-log",
        means: "IPFIX and syslog are for logs, and the answer is none.",
        advice: "Use text, json or csv; `zarnet log` writes the others.",
    },
    ErrorKind {
        name: "binary",
        means: "IPFIX is nothing for a terminal.",
        advice: "Write it into a file: > morning.ipfix.",
    },
    ErrorKind {
        name: "not-sent",
        means: "A log is sent as IPFIX or as syslog.",
        advice: "--format ipfix or --format syslog.",
    },
    ErrorKind {
        name: "bad-address",
        means: "A place to send logs to, or to listen at, is udp://HOST:PORT or tcp://HOST:PORT.",
        advice: "Write it like udp://127.0.0.1:4739.",
    },
    ErrorKind {
        name: "cannot-send",
        means: "The collector cannot be reached, or went away.",
        advice: "Is it up, the port the right one, and the way there open?",
    },
    ErrorKind {
        name: "nothing-to-do",
        means: "`record` was given no log, no place to listen at and nothing else to do.",
        advice: "Name a log, --listen WHERE, --retain SPAN or --check.",
    },
    ErrorKind {
        name: "bad-endpoint",
        means: "What `whose` is asked about is no external address, port and protocol.",
        advice: "Write 203.0.113.2, 203.0.113.2:49201 or 203.0.113.2:49201/tcp.",
    },
    ErrorKind {
        name: "bad-time",
        means: "A moment, a day or a length of time is written otherwise. A moment needs its offset: without one, an hour of every autumn would be two.",
        advice: "Write 2026-08-01T08:45:00Z or 2026-08-01T10:45:00+02:00; a day 2026-08-01; a length 2s.",
    },
    ErrorKind {
        name: "no-store",
        means: "The folder is no store of translation logs, or has something else in it.",
        advice: "`zarnet record STORE LOG...` makes one in a folder that is empty or not there.",
    },
    ErrorKind {
        name: "store-newer",
        means: "The store was made by a newer version of the program.",
        advice: "Use that version.",
    },
    ErrorKind {
        name: "store-busy",
        means: "Another process records into the store.",
        advice: "Wait until it is done, or stop it. Asking is possible meanwhile.",
    },
    ErrorKind {
        name: "store-damaged",
        means: "A file of the store is not as it was written.",
        advice: "`zarnet record STORE --check` tells of every file; bring the file back from a copy, or remove it in both orders.",
    },
    ErrorKind {
        name: "store-unusable",
        means: "A file or folder of the store cannot be read or written.",
        advice: "The message has the reason of the system.",
    },
    ErrorKind {
        name: "datagrams-dropped",
        means: "Datagrams came faster than they could be taken, and were thrown away; a warning.",
        advice: "Send over TCP, or with fewer events a second.",
    },
];
