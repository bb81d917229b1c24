//! What may be typed behind `define`.

use std::path::PathBuf;

use clap::{Args, Subcommand};

/// Arguments of the command `define`.
#[derive(Debug, Args)]
pub struct Define {
    /// Path of the plan file.
    pub plan: PathBuf,
    /// The change to make.
    #[command(subcommand)]
    pub what: What,
    /// Device to change, if the plan has several.
    #[arg(long, value_name = "NAME", global = true)]
    pub device: Option<String>,
    /// Show the change without writing it.
    #[arg(long, global = true)]
    pub dry_run: bool,
    /// Write even if the file is read-only, has several names, or cannot keep its owner.
    #[arg(long, global = true)]
    pub force: bool,
}

/// The piece of the plan to write.
#[derive(Debug, Subcommand)]
pub enum What {
    /// Translate an internal address, range or prefix to an external one of the same size.
    Static {
        /// Internal address, range, prefix or host.
        internal: String,
        /// External address, range or prefix; `next` for the lowest free one.
        external: String,
        /// Limit the direction: both, outbound or inbound.
        #[arg(long)]
        direction: Option<String>,
        /// Also overload senders from outside to this target.
        #[arg(long = "as", value_name = "TARGET")]
        translate_as: Option<String>,
        /// Options that every rule has.
        #[command(flatten)]
        rule: Rule,
    },
    /// Hand out whole addresses of a pool.
    Pool {
        /// Name of the pool.
        pool: String,
        /// When used up: drop, pass, or overload this target instead.
        #[arg(long, value_name = "WHAT")]
        when_exhausted: Option<String>,
        /// Options that every rule has.
        #[command(flatten)]
        rule: Rule,
    },
    /// Share an address by port.
    Overload {
        /// Interface, pool or address; `next` for the lowest free address.
        target: String,
        /// When used up: drop, pass, or overload this target instead.
        #[arg(long, value_name = "WHAT")]
        when_exhausted: Option<String>,
        /// Options that every rule has.
        #[command(flatten)]
        rule: Rule,
    },
    /// Forward an external port to an internal one.
    Forward {
        /// External end: INTERFACE:PORT/PROTOCOL, ADDRESS:PORT/PROTOCOL or next:PORT/PROTOCOL.
        external: String,
        /// Internal ends: ADDRESS:PORT or HOST:PORT.
        #[arg(required = true)]
        internal: Vec<String>,
        /// Spread sessions over several servers: in-turn or by-source.
        #[arg(long)]
        spread: Option<String>,
        /// Also overload senders to this target.
        #[arg(long = "as", value_name = "TARGET")]
        translate_as: Option<String>,
        /// Options that every rule has.
        #[command(flatten)]
        rule: Rule,
    },
    /// Leave matching traffic untranslated.
    Exempt {
        /// Options that every rule has.
        #[command(flatten)]
        rule: Rule,
    },
    /// Change keys of a rule.
    Change {
        /// Name of the rule.
        rule: String,
        /// Keys of the rule to change.
        #[command(flatten)]
        keys: Box<Keys>,
    },
    /// Copy a rule under a new name, changing what the options give.
    Copy {
        /// Name of the rule to copy.
        rule: String,
        /// Name of the copy.
        name: String,
        /// Keys that are otherwise in the copy.
        #[command(flatten)]
        keys: Box<Keys>,
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
    /// Move a rule ahead of another.
    Move {
        /// Name of the rule.
        rule: String,
        /// Rule to place it before.
        #[arg(long, value_name = "RULE")]
        before: String,
    },
    /// Take a rule out of the plan.
    Remove {
        /// Name of the rule.
        rule: String,
    },
    /// Write a named set of addresses, or change the one that is there.
    Addresses {
        /// What to write into the set.
        #[command(flatten)]
        set: NamedSet,
    },
    /// Write a named set of services, or change the one that is there.
    Services {
        /// What to write into the set.
        #[command(flatten)]
        set: NamedSet,
    },
    /// Add a policy entry.
    Policy {
        /// Realm or interface of the sender; may be repeated.
        #[arg(long, value_name = "REALM")]
        from: Vec<String>,
        /// Realm or interface of the receiver; may be repeated.
        #[arg(long, value_name = "REALM")]
        into: Vec<String>,
        /// Accept these services; may be repeated.
        #[arg(long, value_name = "SERVICE")]
        accept: Vec<String>,
        /// Drop these services; may be repeated.
        #[arg(long, value_name = "SERVICE", conflicts_with = "accept")]
        drop: Vec<String>,
        /// Match these senders; may be repeated.
        #[arg(long, value_name = "WHO")]
        source: Vec<String>,
        /// Match these receivers; may be repeated.
        #[arg(long, value_name = "WHO")]
        destination: Vec<String>,
        /// Place it before this entry, counted from 1; last by default.
        #[arg(long, value_name = "N")]
        before: Option<usize>,
    },
    /// Change keys of an interface.
    Interface {
        /// Name of the interface.
        name: String,
        /// Realm that it faces.
        #[arg(long)]
        realm: Option<String>,
        /// Segment that it is on.
        #[arg(long)]
        segment: Option<String>,
        /// Address with prefix length; may be repeated.
        #[arg(long)]
        address: Vec<String>,
        /// Whether the address may change by a lease: true or false.
        #[arg(long, value_name = "FLAG")]
        lease: Option<bool>,
        /// Whether it answers echo requests: true or false.
        #[arg(long, value_name = "FLAG")]
        ping: Option<bool>,
        /// Filter on what comes in; `none` takes it off.
        #[arg(long, value_name = "FILTER")]
        ingress_acl: Option<String>,
        /// Filter on what goes out; `none` takes it off.
        #[arg(long, value_name = "FILTER")]
        egress_acl: Option<String>,
    },
    /// Switch forwarding between interfaces on or off.
    Forwarding {
        /// Whether it forwards: on or off.
        #[arg(value_parser = ["on", "off"])]
        state: String,
    },
    /// Add a static route, or let the one to this prefix lead elsewhere.
    Route {
        /// Destination prefix of the route.
        to: String,
        /// Address of the next hop.
        via: String,
        /// Route these senders only; may be repeated.
        #[arg(long, value_name = "WHO")]
        source: Vec<String>,
        /// Route what comes in by these realms only; may be repeated.
        #[arg(long, value_name = "REALM")]
        from: Vec<String>,
    },
    /// Add a pool of external addresses.
    AddressPool {
        /// Name of the address pool.
        name: String,
        /// Addresses, prefixes or ranges; a number takes that many of the lowest free ones.
        #[arg(required = true)]
        addresses: Vec<String>,
        /// Pick addresses: lowest, highest, in-turn, random or by-source.
        #[arg(long)]
        pick: Option<String>,
    },
    /// Make an interface answer for an additional address.
    AnswersFor {
        /// Address or range to answer for.
        address: String,
        /// Interface; by default the one whose prefix holds the address.
        #[arg(long, value_name = "NAME")]
        interface: Option<String>,
        /// As an address of its own (also), or for somebody else (proxy-arp).
        #[arg(long, default_value = "proxy-arp", value_parser = ["also", "proxy-arp"])]
        by: String,
    },
}

/// A named set, and what becomes of it.
#[derive(Debug, Clone, Args)]
pub struct NamedSet {
    /// Name of the set.
    pub name: String,
    /// Elements that it is to have instead of those that are there.
    pub elements: Vec<String>,
    /// Add this element; may be repeated.
    #[arg(long, value_name = "ELEMENT", conflicts_with = "elements")]
    pub add: Vec<String>,
    /// Drop this element; may be repeated.
    #[arg(long, value_name = "ELEMENT", conflicts_with = "elements")]
    pub drop: Vec<String>,
}

/// Keys of a rule that is there.
#[derive(Debug, Clone, Default, Args)]
pub struct Keys {
    /// Type: static, pool, overload, forward or exempt.
    #[arg(long = "type", value_name = "TYPE")]
    pub kind: Option<String>,
    /// Internal end; may be repeated.
    #[arg(long, value_name = "END")]
    pub internal: Vec<String>,
    /// External end; `next` for the lowest free address.
    #[arg(long, value_name = "END")]
    pub external: Option<String>,
    /// Interface, pool or address that senders become.
    #[arg(long = "as", value_name = "TARGET")]
    pub translate_as: Option<String>,
    /// When used up: drop, pass, or overload this target instead.
    #[arg(long, value_name = "WHAT")]
    pub when_exhausted: Option<String>,
    /// Spread sessions over several servers: in-turn or by-source.
    #[arg(long)]
    pub spread: Option<String>,
    /// Limit the direction of a static: both, outbound or inbound.
    #[arg(long)]
    pub direction: Option<String>,
    /// Match these senders; may be repeated.
    #[arg(long, value_name = "WHO")]
    pub source: Vec<String>,
    /// Match these receivers; may be repeated.
    #[arg(long, value_name = "WHO")]
    pub destination: Vec<String>,
    /// Match these services; may be repeated.
    #[arg(long)]
    pub service: Vec<String>,
    /// Internal side: realms or interfaces.
    #[arg(long, value_name = "REALM")]
    pub from: Vec<String>,
    /// External side: realms or interfaces.
    #[arg(long, value_name = "REALM")]
    pub into: Vec<String>,
    /// Let hosts of these realms use the external end (hairpin).
    #[arg(long, value_name = "REALM")]
    pub hairpin: Vec<String>,
    /// Limit the mappings of the rule, or the sessions of a static or forward.
    #[arg(long)]
    pub limit: Option<u32>,
    /// Describe what the rule is for.
    #[arg(long)]
    pub note: Option<String>,
    /// Log its translations: sessions, mappings or blocks.
    #[arg(long, value_name = "WHAT")]
    pub log: Option<String>,
    /// Take out this key, so that its default counts; may be repeated.
    #[arg(long, value_name = "KEY")]
    pub unset: Vec<String>,
}

/// Options of every rule.
#[derive(Debug, Clone, Default, Args)]
pub struct Rule {
    /// Name of the rule; by default derived from what it does.
    #[arg(long)]
    pub name: Option<String>,
    /// Match these senders; of a static or forward, those that may come in; may be repeated.
    #[arg(long, value_name = "WHO")]
    pub source: Vec<String>,
    /// Match these receivers; may be repeated.
    #[arg(long, value_name = "WHO")]
    pub destination: Vec<String>,
    /// Match these services; may be repeated.
    #[arg(long)]
    pub service: Vec<String>,
    /// Internal side: realms or interfaces.
    #[arg(long, value_name = "REALM")]
    pub from: Vec<String>,
    /// External side: realms or interfaces.
    #[arg(long, value_name = "REALM")]
    pub into: Vec<String>,
    /// Let hosts of these realms use the external end (hairpin).
    #[arg(long, value_name = "REALM")]
    pub hairpin: Vec<String>,
    /// Limit the mappings of the rule, or the sessions of a static or forward.
    #[arg(long)]
    pub limit: Option<u32>,
    /// Describe what the rule is for.
    #[arg(long)]
    pub note: Option<String>,
    /// Write the rule disabled.
    #[arg(long)]
    pub disabled: bool,
    /// Log translations of the rule: sessions, mappings or blocks.
    #[arg(long, value_name = "WHAT", num_args = 0..=1, require_equals = true,
        default_missing_value = "sessions",
          value_parser = ["sessions", "mappings", "blocks"])]
    pub log: Option<String>,
    /// Where it is listed.
    #[command(flatten)]
    pub place: Place,
    /// Also add the policy entry and the address to answer for that the rule needs.
    #[arg(long)]
    pub with_access: bool,
}

/// Where a rule is listed.
#[derive(Debug, Clone, Default, Args)]
pub struct Place {
    /// Place it before this rule; by default fixed and exempt rules go first, others last.
    #[arg(long, value_name = "RULE")]
    pub before: Option<String>,
}
