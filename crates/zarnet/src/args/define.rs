//! What may be typed behind `define`.

use std::path::PathBuf;

use clap::{Args, Subcommand};

/// Arguments of the command `define`.
#[derive(Debug, Args)]
pub struct Define {
    /// Path of the plan file.
    pub plan: PathBuf,
    /// What is written into it.
    #[command(subcommand)]
    pub what: What,
    /// The device, where the plan has several.
    #[arg(long, value_name = "NAME", global = true)]
    pub device: Option<String>,
    /// Show it all, and write nothing.
    #[arg(long, global = true)]
    pub dry_run: bool,
    /// Write even if the plan's file is read-only, has several names, or cannot keep its owner.
    #[arg(long, global = true)]
    pub force: bool,
}

/// The piece of the plan to write.
#[derive(Debug, Subcommand)]
pub enum What {
    /// One internal address, range or prefix is one external one of the same size, both ways.
    Static {
        /// Internal address, range or prefix, or a host's name.
        internal: String,
        /// External address, range or prefix; `next` is the lowest free one.
        external: String,
        /// Directions it is good in: both, outbound, inbound.
        #[arg(long)]
        direction: Option<String>,
        /// What senders from outside are overloaded to.
        #[arg(long = "as", value_name = "TARGET")]
        translate_as: Option<String>,
        /// Options that every rule has.
        #[command(flatten)]
        rule: Rule,
    },
    /// A whole address each, from a pool.
    Pool {
        /// Name of the pool.
        pool: String,
        /// What happens when it is used up: drop, pass, or what to overload instead.
        #[arg(long, value_name = "WHAT")]
        when_exhausted: Option<String>,
        /// Options that every rule has.
        #[command(flatten)]
        rule: Rule,
    },
    /// Many share an address, by port.
    Overload {
        /// An interface, a pool or an address; `next` is the lowest free address.
        target: String,
        /// What happens when it is used up: drop, pass, or what to overload instead.
        #[arg(long, value_name = "WHAT")]
        when_exhausted: Option<String>,
        /// Options that every rule has.
        #[command(flatten)]
        rule: Rule,
    },
    /// An external port leads to an internal one.
    Forward {
        /// External end: INTERFACE:PORT/PROTOCOL or ADDRESS:PORT/PROTOCOL; `next:PORT/PROTOCOL`
        /// takes the lowest free address.
        external: String,
        /// Internal ends: ADDRESS:PORT or HOST:PORT.
        #[arg(required = true)]
        internal: Vec<String>,
        /// How sessions are spread over several: in-turn, by-source.
        #[arg(long)]
        spread: Option<String>,
        /// What senders are overloaded to.
        #[arg(long = "as", value_name = "TARGET")]
        translate_as: Option<String>,
        /// Options that every rule has.
        #[command(flatten)]
        rule: Rule,
    },
    /// Matching traffic stays as it is.
    Exempt {
        /// Options that every rule has.
        #[command(flatten)]
        rule: Rule,
    },
    /// Copy a rule under a new name, changing what the options give.
    Copy {
        /// Name of the rule to copy.
        rule: String,
        /// Name of the copy.
        name: String,
        /// External end of the copy.
        #[arg(long)]
        external: Option<String>,
        /// Internal end of the copy.
        #[arg(long)]
        internal: Option<String>,
        /// Senders of the copy.
        #[arg(long)]
        source: Option<String>,
    },
    /// Let a rule take part.
    Enable {
        /// Name of the rule.
        rule: String,
    },
    /// Let a rule take part no more.
    Disable {
        /// Name of the rule.
        rule: String,
    },
    /// List a rule before another.
    Move {
        /// Name of the rule.
        rule: String,
        /// The one that is to come behind it.
        #[arg(long, value_name = "RULE")]
        before: String,
    },
    /// Take a rule out.
    Remove {
        /// Name of the rule.
        rule: String,
    },
    /// Add a named set of addresses, or write it anew.
    Addresses {
        /// Name of the group of addresses.
        name: String,
        /// Addresses, prefixes, ranges, names of groups and hosts.
        #[arg(required = true)]
        elements: Vec<String>,
    },
    /// Add a pool of external addresses.
    AddressPool {
        /// Name of the address pool.
        name: String,
        /// Addresses, prefixes, ranges; a number takes so many of the lowest free ones.
        #[arg(required = true)]
        addresses: Vec<String>,
        /// How an address is picked: lowest, highest, in-turn, random, by-source.
        #[arg(long)]
        pick: Option<String>,
    },
    /// Let an interface answer for an address besides its own.
    AnswersFor {
        /// The address, or a range.
        address: String,
        /// The interface; the one in whose prefix it lies if left out.
        #[arg(long, value_name = "NAME")]
        interface: Option<String>,
    },
}

/// Options of every rule.
#[derive(Debug, Clone, Default, Args)]
pub struct Rule {
    /// Its name; made from what it does if left out.
    #[arg(long)]
    pub name: Option<String>,
    /// Senders: of a static or forward, those who may come in; again for more.
    #[arg(long, value_name = "WHO")]
    pub source: Vec<String>,
    /// Receivers; again for more.
    #[arg(long, value_name = "WHO")]
    pub destination: Vec<String>,
    /// Services; again for more.
    #[arg(long)]
    pub service: Vec<String>,
    /// The internal side: realms or interfaces.
    #[arg(long, value_name = "REALM")]
    pub from: Vec<String>,
    /// External side of the rule.
    #[arg(long, value_name = "REALM")]
    pub into: Vec<String>,
    /// Realms whose hosts may use the external end.
    #[arg(long, value_name = "REALM")]
    pub hairpin: Vec<String>,
    /// Most mappings, or sessions of a fixed rule.
    #[arg(long)]
    pub limit: Option<u32>,
    /// What it is for.
    #[arg(long)]
    pub note: Option<String>,
    /// Write the rule disabled.
    #[arg(long)]
    pub disabled: bool,
    /// Log its translations: what of them.
    #[arg(long, value_name = "WHAT", num_args = 0..=1, require_equals = true,
        default_missing_value = "sessions",
          value_parser = ["sessions", "mappings", "blocks"])]
    pub log: Option<String>,
    /// Where it is listed.
    #[command(flatten)]
    pub place: Place,
    /// Add what it needs besides: the policy entry that lets it pass, and the address that must be
    /// answered for.
    #[arg(long)]
    pub with_access: bool,
}

/// Where a rule is listed.
#[derive(Debug, Clone, Default, Args)]
pub struct Place {
    /// Before this rule; if left out, fixed and exempt ones before the first that is neither,
    /// others last.
    #[arg(long, value_name = "RULE")]
    pub before: Option<String>,
}
