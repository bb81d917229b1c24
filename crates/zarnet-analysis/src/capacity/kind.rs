//! The kinds of remedies, with what each does and costs.

use zarnet_core::named;

named! {
    /// A kind of remedy, with what it costs.
    Kind {
        WholePrefix, "whole-prefix",
            "Nothing where the prefix is routed to the device; on a link, neighbours may take the \
             two addresses for network and broadcast.",
            "`usable = \"all\"`",
            "Nothing where the prefix is routed; on a link, neighbours may take the two for \
             network and broadcast.";
        LargerPool, "larger-pool",
            "More external addresses are used up, which cannot serve anything else.",
            "free addresses of the device's blocks are added",
            "They cannot serve anything else.";
        MoreAddresses, "more-addresses",
            "More external addresses are used up; hosts no longer share one.",
            "several addresses are overloaded instead of one",
            "The same; hosts no longer share one.";
        Fallback, "fallback",
            "A host that finds the pool empty shares an address by port: it cannot be reached \
             from outside by an address of its own.",
            "who finds the pool empty overloads the interface",
            "Such a host is not reached by an address of its own.";
        OverloadInstead, "overload-instead",
            "No host has an address of its own any more: protocols without ports stop working for \
             all but one, and peers see shared addresses.",
            "the pool's addresses are shared by port",
            "No host has one of its own; protocols without ports suffer.";
        ShorterTimers, "shorter-timers",
            "What is quiet for longer than the new timers loses its mapping: long quiet \
             conversations break.",
            "the shortest that RFC 4787 and RFC 5382 allow",
            "Long quiet conversations break.";
        PerPortTimer, "per-port-timer",
            "A name query that is answered later than that loses its answer: ten seconds are what \
             RFC 4787 REQ-5a has in mind for such ports.",
            "ten seconds for 53/udp, instead of `udp-timeout`",
            "A query that is answered later loses its answer.";
        BlockSize, "block-size",
            "A host that wants more ports than a block has takes several blocks, and there are \
             more entries in a log of blocks.",
            "smaller blocks, so that there are more of them",
            "More log entries; hosts with many ports take several blocks.";
        ShorterBinding, "shorter-binding",
            "A host that comes back may get another address than it had.",
            "an address is free with its last session",
            "A host that comes back may get another address.";
        LimitPerHost, "limit-per-host",
            "Hosts that want more than the limit are refused, so that the others are not.",
            "`ports-per-host`, so that a tenth is left with the holders of that moment",
            "Hosts that want more are refused, so that others are not.";
        PickBySource, "pick-by-source",
            "Nothing: it changes which address a host gets, and so for how long it keeps the same \
             one.",
            "another choice of address",
            "Nothing; it changes how long a host keeps the same one.";
        PickLowest, "pick-lowest",
            "Nothing: it changes which address a host gets, and leaves the upper ones free for \
             the longest time.",
            "another choice of address",
            "Nothing; it changes how long a host keeps the same one.";
        ArbitraryPooling, "arbitrary-pooling",
            "A host shows several addresses at a time, which breaks what expects one (RFC 4787 \
             REQ-2).",
            "a host may use any address with a port left",
            "A host shows several addresses (RFC 4787 REQ-2).";
        PortOverloading, "port-overloading",
            "Mappings depend on the peer: applications that need the same external port for all \
             peers break (RFC 4787 REQ-1).",
            "a port serves several peers at a time",
            "Mappings depend on the peer (RFC 4787 REQ-1).";
    }
}

impl Kind {
    /// What it asks of users and operators: 0 hardly anything, 1 something that there is to give, 2
    /// that something works less well.
    pub(super) fn burden(self) -> u8 {
        match self {
            Self::WholePrefix
            | Self::ShorterBinding
            | Self::PickBySource
            | Self::PickLowest
            | Self::BlockSize
            | Self::PerPortTimer => 0,
            Self::LargerPool | Self::MoreAddresses | Self::Fallback => 1,
            Self::ShorterTimers
            | Self::OverloadInstead
            | Self::LimitPerHost
            | Self::ArbitraryPooling
            | Self::PortOverloading => 2,
        }
    }
}
