//! What can be wrong with documents of the standard data models, and with devices that are asked over
//! the network.

use zarnet_core::plan::ErrorKind;

/// Every error with what it means and what to do.
pub const DEVICE_ERRORS: &[ErrorKind] = &[
    ErrorKind {
        name: "not-an-address",
        means: "The address of a device is https://HOST or https://HOST:PORT; nothing is sent without encryption.",
        advice: "Write the address like https://localhost:8443.",
    },
    ErrorKind {
        name: "device-unreachable",
        means: "Nobody answers at the address, or not as a server does.",
        advice: "Is the device up, the port the right one, and the way there open?",
    },
    ErrorKind {
        name: "certificate-not-believed",
        means: "The certificate of the device was made by nobody who is trusted, is for another name, or is not the one of `pin`.",
        advice: "If the fingerprint is the device's, put it into the access file as `pin`, or use --learn-pin once.",
    },
    ErrorKind {
        name: "no-whole-answer",
        means: "The answer took longer than --wait, or ended in the middle.",
        advice: "A read may be tried again. Of an edit, `drift` tells what the device has.",
    },
    ErrorKind {
        name: "answer-not-understood",
        means: "The answer is not the data that was asked for, or is longer than is taken.",
        advice: "Does the address belong to a device that speaks RESTCONF (RFC 8040) with JSON?",
    },
    ErrorKind {
        name: "access-refused",
        means: "The device does not know who asks, or does not allow it.",
        advice: "The access file has `token`, `user` and `password`, or `certificate` and `key`.",
    },
    ErrorKind {
        name: "device-changed-meanwhile",
        means: "Between reading and writing somebody else changed the configuration. Nothing was written.",
        advice: "Look at what is there now with `drift`, and send again.",
    },
    ErrorKind {
        name: "device-refuses",
        means: "The device answered that it does not do what was asked.",
        advice: "What it says stands in the message.",
    },
    ErrorKind {
        name: "access-file",
        means: "The access file cannot be read, can be read by others, or says something else than it may.",
        advice: "It is TOML with `url`, `pin` or `ca`, and `token`, or `user` and `password`, or `certificate` and `key`; chmod 600.",
    },
    ErrorKind {
        name: "device-not-understood",
        means: "The configuration of the device is not what the modules allow, or comes to no plan.",
        advice: "What is wrong stands in the message, with its path.",
    },
    ErrorKind {
        name: "invalid-data",
        means: "A document of the standard data models is not what its modules allow.",
        advice: "The message has the path of the fault (RFC 8040 §3.5.3).",
    },
    ErrorKind {
        name: "not-a-document",
        means: "A file is no JSON object, or says a member twice.",
        advice: "Give a document as RFC 7951 has it.",
    },
    ErrorKind {
        name: "said-twice",
        means: "Two documents that are to be joined have the same top-level member.",
        advice: "Give the documents of one device, each part once.",
    },
    ErrorKind {
        name: "nothing-to-import",
        means: "A document holds nothing that a plan is made of.",
        advice: "It needs `ietf-nat:nat`, and the interfaces beside it.",
    },
    ErrorKind {
        name: "which-device",
        means: "The plan has several devices, and none is named.",
        advice: "Name one with `--device`.",
    },
    ErrorKind { name: "no-device", means: "The plan has no device.", advice: "Declare one." },
    ErrorKind {
        name: "cannot-listen",
        means: "A stand-in cannot have the address and port that it is to listen at.",
        advice: "`--listen 127.0.0.1:0` takes a port that is free.",
    },
    ErrorKind {
        name: "reachable-by-others",
        means: "A stand-in listens where other machines can reach it; a warning.",
        advice: "They need the token of its access file.",
    },
    ErrorKind {
        name: "traffic-halted",
        means: "The traffic of a stand-in cannot be played on; a warning.",
        advice: "The device goes on without it.",
    },
    ErrorKind {
        name: "not-a-terminal",
        means: "`watch` draws on a terminal, and there is none.",
        advice: "`--once` looks once, and `--format json` is for scripts.",
    },
];
