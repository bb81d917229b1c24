//! What was passed over of traffic.

/// Frames that say nothing about translation, by why.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Skipped {
    /// Of a link type that is not read.
    pub link: u64,
    /// Neither IPv4 nor IPv6, or not whole enough to tell.
    pub not_ip: u64,
    /// Fragments whose first was not seen before them: nothing tells whose they are.
    pub fragments: u64,
    /// ICMP that is no query, reply or error about an IPv4 packet.
    pub icmp_other: u64,
    /// Lines or packets that were wrong.
    pub bad: u64,
}

impl Skipped {
    /// Adds up two counts.
    pub fn add(&mut self, other: Self) {
        self.link += other.link;
        self.not_ip += other.not_ip;
        self.fragments += other.fragments;
        self.icmp_other += other.icmp_other;
        self.bad += other.bad;
    }
}
