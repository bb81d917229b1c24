//! Every limit that input meets, in one place: how much of something is taken, why no more, and
//! which error says so.
//!
//! Plans, traffic and tables come from strangers as well as from their owner. A limit lies far
//! above what the job needs and low enough that input of any kind is refused within seconds and
//! within half a gigabyte of memory. `docs/limits.md` lists [`ALL`]; a test holds the two against
//! each other.

/// A limit as it is documented.
#[derive(Debug, Clone, Copy)]
pub struct Limit {
    /// What is limited, with its unit.
    pub what: &'static str,
    /// How much of it is taken.
    pub most: u64,
    /// Why the bound is where it is.
    pub reason: &'static str,
    /// The stable name of the error that says so.
    pub error: &'static str,
}

macro_rules! limits {
    ($(
        $(#[$doc:meta])*
        $name:ident: $type:ty = $most:expr, $what:literal, $reason:literal, $error:literal;
    )*) => {
        $($(#[$doc])* pub const $name: $type = $most;)*

        /// All of them, in the order of the documentation.
        pub const ALL: &[Limit] =
            &[$(Limit { what: $what, most: $name as u64, reason: $reason, error: $error }),*];
    };
}

limits! {
    /// Octets of a plan: its file and those that it includes, together.
    PLAN_OCTETS: usize = 24 << 20,
        "octets of a plan, with what it includes",
        "65,535 rules of 300 octets fit; parsing takes twenty times the text",
        "too-many";
    /// Values in the files of a plan, or in a scenario: keys, elements of lists, tables.
    VALUES: usize = 3_000_000,
        "values in a plan or a scenario",
        "each takes some 150 octets while the file is parsed",
        "too-many";
    /// Files of a plan.
    PLAN_FILES: usize = 256,
        "files of a plan", "each is opened and parsed", "too-many";
    /// Devices of a plan.
    DEVICES: usize = 16_384,
        "devices of a plan", "a packet passes 32 at most; each has tables of its own", "too-many";
    /// Interfaces of a device.
    INTERFACES: usize = 1_024,
        "interfaces of a device", "each rule keeps a bit for each of them", "too-many";
    /// Rules of a device; numbers of rules have 16 bits.
    RULES: usize = 65_535,
        "rules of a device", "a session keeps the numbers of its rules in 16 bits", "too-many";
    /// Pools of a device, with those that rules make of the addresses that they name.
    POOLS: usize = 32_767,
        "pools of a device", "the number of a pool has 15 bits", "too-many";
    /// Hosts of a plan, and its segments.
    HOSTS: usize = 1_000_000,
        "hosts of a plan", "each is kept with its addresses, some 300 octets", "too-many";
    /// Segments of a plan, named or inferred.
    SEGMENTS: usize = 65_535,
        "segments of a plan", "the number of a segment has 16 bits", "too-many";
    /// Filters of a device.
    FILTERS: usize = 4_096,
        "filters of a device", "an interface has two", "too-many";
    /// Address ranges and services that the groups and conditions of a plan come to when names are
    /// replaced by what they stand for.
    MEMBERS: usize = 2_000_000,
        "address ranges and services in all groups and conditions of a plan, names replaced by \
         what they stand for",
        "a group that names others holds what they hold, and so does each condition that names it",
        "too-many";
    /// Addresses of a pool.
    POOL_ADDRESSES: u128 = 1 << 24,
        "addresses of a pool", "which are in use is kept for each", "pool-too-large";
    /// Fixed rules that may claim one external end for different senders.
    CLAIMS: usize = 1_024,
        "static or forward rules on one external address and port",
        "each is compared with all others there",
        "too-many";
    /// Problems of a plan that are kept; further ones are counted.
    PROBLEMS: usize = 1_000,
        "errors of a plan that are listed in JSON", "further ones are counted", "too-many";
    /// Problems of a plan that are shown with their piece of source.
    PROBLEMS_SHOWN: usize = 100,
        "errors of a plan, or findings of one name, that are shown as text",
        "further ones are counted",
        "too-many";
    /// Names that are tried for a hint of what was meant.
    CANDIDATES: usize = 4_096,
        "names that are tried for a hint (\"did you mean\")",
        "a hint is not worth a second",
        "unknown-name";
    /// Characters of a name for which a hint is looked for.
    NAME_TRIED: usize = 80,
        "characters of a name for which a hint is looked for",
        "comparing takes the product of both lengths",
        "unknown-name";
    /// Steps of going through all packets of a device.
    CLASS_STEPS: u64 = 1_200_000_000,
        "steps of going through all packets that a device tells apart, for `check` and `impact`",
        "conditions on several fields multiply; some five seconds",
        "not-proved";
    /// Pairs of interfaces, times policy entries, for which the fast path is prepared.
    OPEN_PAIRS: usize = 20_000_000,
        "pairs of interfaces times policy entries for which packets take the fast path",
        "beyond, every packet is judged step by step",
        "(none; slower)";
    /// Policy entries of a device, and entries of its filters.
    ENTRIES: usize = 65_535,
        "policy entries of a device, and entries of its filters",
        "first packets are held against them in turn",
        "too-many";
    /// Routes of a device.
    ROUTES: usize = 32_767,
        "routes of a device", "the number of a route has 15 bits", "too-many";
    /// Octets of one line of a flow list.
    LINE_OCTETS: usize = 1 << 20,
        "octets of a line of a flow list", "a line is kept whole", "line-too-long";
    /// Octets of a scenario.
    SCENARIO_OCTETS: usize = 24 << 20,
        "octets of a scenario", "it is parsed as a whole, as a plan is", "too-large";
    /// Flows written in a scenario.
    SCENARIO_FLOWS: usize = 500_000,
        "flows written in a scenario", "they are kept in memory; a list streams", "scenario";
    /// Times that a flow of a scenario is sent.
    REPEATS: u64 = 10_000_000,
        "times that a flow of a scenario is sent (`count`)",
        "more is a load profile's job",
        "scenario";
    /// Load profiles of a scenario.
    LOADS: usize = 1_000,
        "load profiles of a scenario",
        "for each flow, all profiles are asked who is next",
        "scenario";
    /// Flows of a load profile.
    LOAD_FLOWS: u64 = 10_000_000_000,
        "flows of a load profile", "they would take hours", "scenario";
    /// Flows a second of a load profile.
    LOAD_RATE: u64 = 10_000_000,
        "flows a second of a load profile", "more make no sense", "scenario";
    /// Events of a scenario.
    EVENTS: usize = 10_000,
        "events of a scenario", "one may go through all sessions", "scenario";
    /// Events at which another plan takes over.
    TAKEOVERS: usize = 64,
        "events of a scenario at which another plan takes over",
        "each plan is kept whole",
        "scenario";
    /// A time or length of time in traffic, in seconds: a hundred years.
    SECONDS: u64 = 100 * 365 * 86_400,
        "seconds of a time or a length of time in traffic (100 years)",
        "the clock counts nanoseconds in 64 bits",
        "time-too-long";
    /// Octets that a packed input may come to, however well it is packed.
    UNPACKED_OCTETS: u64 = 64 << 20,
        "octets that a packed input (.gz, .zst) may come to in any case",
        "small packed files can hold gigabytes of nothing",
        "too-large";
    /// How many times its own size a larger packed input may come to.
    UNPACKED_TIMES: u64 = 100,
        "times its own size that a packed input may come to, if that is more",
        "flow lists and captures pack to a tenth",
        "too-large";
    /// Octets that are read from a pipe or standard input.
    PIPE_OCTETS: u64 = 16 << 30,
        "octets from a pipe or standard input",
        "they are kept on disk, for some questions read them twice",
        "too-large";
    /// Octets of a block of a capture.
    BLOCK_OCTETS: usize = 16 << 20,
        "octets of a block of a capture", "a block is kept whole", "capture-malformed";
    /// Wires of a pcapng section.
    WIRES: usize = 65_536,
        "interfaces of a pcapng section", "they are kept while it is read", "capture-malformed";
    /// Datagrams whose first fragment is remembered.
    FRAGMENTS: usize = 1 << 16,
        "datagrams whose fragments are put together at a time",
        "a flood of fragments must not fill the memory",
        "passed-over";
    /// Prefixes of senders that are counted where a capture seems to be from elsewhere.
    STRANGE_PREFIXES: usize = 1 << 10,
        "prefixes of senders who are not behind the interface of a capture",
        "those that come first tell enough",
        "seen-elsewhere";
    /// Octets of a table of a device.
    OBSERVED_OCTETS: usize = 256 << 20,
        "octets of a device's table", "it is kept as text while it is read", "too-large";
    /// Rows of a table of a device.
    OBSERVED_ROWS: usize = 2_000_000,
        "rows of a device's table", "each is compared in memory", "too-large";
    /// Devices of one stand-in.
    STAND_IN_DEVICES: usize = 256,
        "devices of a stand-in", "each listens at a port of its own", "too-many";
    /// Entries that one rule or one entry of a filter may come to in a document of the data models.
    EXPORTED_PARTS: usize = 4_096,
        "entries of a document that a rule or filter entry comes to",
        "lists are written as the product of their parts",
        "rule-source";
    /// Wrong lines of an input that are counted.
    BAD_LINES: usize = 10_000,
        "wrong lines of an input that are counted",
        "reading on would tell nothing new",
        "malformed-line";
    /// Repairs of findings that are tried on the plan.
    REPAIRS: usize = 10,
        "repairs of findings that `check` shows as a diff",
        "for each the plan is changed and built anew",
        "(no diff)";
    /// Wrong lines of an input that are shown.
    BAD_LINES_SHOWN: usize = 20,
        "wrong lines of an input that are shown", "further ones are counted", "malformed-line";
    /// Levels of tables and lists in TOML.
    NESTING: usize = 80,
        "levels of tables and lists in TOML; of JSON 128",
        "deeper nesting would exhaust the stack",
        "syntax";
    /// Simulations of each load.
    RUNS: u64 = 1_000,
        "simulations of each load (`--runs`)",
        "the interval hardly narrows after a hundred",
        "the command line's own";
    /// Threads that work at once.
    THREADS: usize = 256,
        "threads (`--threads`)", "each needs memory of its own", "the command line's own";
    /// Columns that an answer is fitted into.
    WIDTH: usize = 1_000,
        "columns of an answer (`--width`)", "lines are padded to it", "the command line's own";
}
