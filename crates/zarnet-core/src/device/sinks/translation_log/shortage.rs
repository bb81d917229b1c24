//! Supplies that ran out and limits that were reached, each logged once in a while.

use super::entry::RefusedPacket;
use super::{LogEntry, LogEvent, Quota, TranslationLog};
use crate::device::bindings::Bindings;
use crate::device::key::Key;
use crate::net::Instant;
use crate::plan::Log;
use crate::reason::Reason;

/// The same shortage is logged again only after this (RFC 8158 §4.6.5 asks for a limit; as long as
/// ietf-nat's `notify-interval` of RFC 8512 is by default).
const INTERVAL: u64 = 20_000_000_000;

/// So many shortages are remembered before those that are too old are looked for.
const MOST_SHORTAGES: usize = 4096;

impl TranslationLog {
    /// What ran out for a packet that was refused.
    fn shortage(&self, refused: &RefusedPacket, bindings: &Bindings) -> Option<LogEvent> {
        let behaviour = &self.compiled.plan.behaviour;
        let number = |n: u64| u32::try_from(n).unwrap_or(u32::MAX);
        match (refused.reason, refused.rule) {
            (Reason::PoolExhausted, _) => {
                let target = refused.targets.into_iter().flatten().next()?;
                self.compiled.targets.get(target).pool.map(LogEvent::AddressesExhausted)
            }
            (Reason::PortsExhausted, _) => {
                let target = refused.targets.into_iter().flatten().next()?;
                self.ports_exhausted(target, refused, bindings)
            }
            (Reason::HostLimit, _) => {
                let limit = behaviour.ports_per_host?;
                Some(LogEvent::QuotaExceeded(Quota::OfHost(limit, refused.source)))
            }
            (Reason::RuleLimit, Some(rule)) => {
                let rule = self.compiled.rule(rule.0);
                let limit = rule.limit?;
                let quota = if rule.kind.is_fixed() { Quota::Sessions } else { Quota::Mappings };
                Some(LogEvent::QuotaExceeded(quota(limit)))
            }
            (Reason::DeviceFull, _) => {
                let sessions = behaviour.max_sessions;
                let full = sessions.filter(|most| bindings.table.session_count() >= *most);
                let quota = match full {
                    Some(most) => Quota::Sessions(number(most)),
                    None => Quota::Mappings(number(behaviour.max_mappings?)),
                };
                Some(LogEvent::QuotaExceeded(quota))
            }
            _ => None,
        }
    }

    /// The address whose ports are used up; the pool, where a host may have those of any address.
    fn ports_exhausted(
        &self,
        target: u16,
        refused: &RefusedPacket,
        bindings: &Bindings,
    ) -> Option<LogEvent> {
        let config = self.compiled.targets.get(target);
        let host = Key::of(refused.source)?;
        let address = match config.space.count() {
            0 => return config.pool.map(LogEvent::AddressesExhausted),
            1 => Some(config.space.nth(0)),
            _ => bindings.paired_address(&self.compiled.targets, host, target),
        };
        match (address, config.pool) {
            (None, Some(pool)) => Some(LogEvent::AddressesExhausted(pool)),
            (address, _) => {
                let address = address.unwrap_or(config.space.nth(0)).address();
                Some(LogEvent::PortsExhausted(address, refused.protocol))
            }
        }
    }

    #[cold]
    pub(super) fn refuse(&mut self, at: u64, refused: &RefusedPacket, bindings: &Bindings) {
        let is_logged = match refused.rule {
            Some(rule) => !self.is(rule.0, Log::Nothing),
            None => self.by_rule.iter().any(|log| *log != Log::Nothing),
        };
        let Some(event) = self.shortage(refused, bindings).filter(|_| is_logged) else { return };
        let known = self.shortages.get(&(event, refused.rule));
        if known.is_some_and(|last| at.saturating_sub(*last) < INTERVAL) {
            return;
        }
        // what is older than the interval says nothing any more
        if self.shortages.len() >= MOST_SHORTAGES {
            self.shortages.retain(|_, last| at.saturating_sub(*last) < INTERVAL);
        }
        self.shortages.insert((event, refused.rule), at);
        self.entries.push(LogEntry { at: Instant(at), rule: refused.rule, event });
    }
}
