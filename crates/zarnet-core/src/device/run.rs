//! Packets and flows through a device.

use super::Device;
use super::outcome::{Outcome, Refusal, SessionRef};
use super::pipeline::{ForwardedError, OwnSource};
use crate::net::{IcmpError, Instant, Packet};
use crate::observe::Observer;
use crate::plan::InterfaceId;
use crate::traffic::Ending;

impl Device {
    /// A packet comes in on an interface.
    pub fn receive(&mut self, now: Instant, ingress: InterfaceId, packet: Packet) -> Outcome {
        self.receive_watched(now, ingress, packet, &mut ())
    }

    /// Like [`Self::receive`], reporting each step to an observer.
    pub fn receive_watched<O: Observer>(
        &mut self,
        now: Instant,
        ingress: InterfaceId,
        packet: Packet,
        observer: &mut O,
    ) -> Outcome {
        self.engine().receive(now, ingress, packet, observer)
    }

    /// The device sends a packet of its own: it is routed and filtered on its way out. Rules look
    /// at it only where the device is told so.
    pub fn originate(&mut self, now: Instant, packet: Packet) -> Outcome {
        self.originate_watched(now, packet, OwnSource::Given, &mut ())
    }

    /// Like [`Self::originate`], reporting each step to an observer.
    pub fn originate_watched<O: Observer>(
        &mut self,
        now: Instant,
        packet: Packet,
        source: OwnSource,
        observer: &mut O,
    ) -> Outcome {
        self.engine().originate(now, packet, source, observer)
    }

    /// An ICMP error comes in on an interface. Nothing in the table changes (RFC 5508 §4 REQ-6, RFC
    /// 4787 §10 REQ-12).
    ///
    /// # Errors
    /// The reason for which it is dropped: `no-session` if the packet that it is about belongs to
    /// none.
    pub fn receive_error(
        &mut self,
        now: Instant,
        ingress: InterfaceId,
        error: IcmpError,
    ) -> Result<ForwardedError, Refusal> {
        self.expire(now);
        self.context().receive_error(ingress, error)
    }

    /// Enters a packet that was seen coming in on an inner interface and belongs to a session that
    /// nothing can object to any more. `false`: nothing was done, and the packet has to go the
    /// whole way.
    pub fn refresh_coming(&mut self, now: Instant, interface: InterfaceId, packet: Packet) -> bool {
        self.engine().refresh_coming(now, interface, packet)
    }

    /// Enters a packet that was seen going out and belongs to a known session.
    pub fn refresh_leaving(&mut self, now: Instant, packet: Packet) -> bool {
        self.engine().refresh_leaving(now, packet)
    }

    /// A flow runs on a session until `end`, both ways without a pause. Entered at once instead of
    /// packet by packet: the session's state at any moment in between follows from it.
    pub fn run_until(&mut self, now: Instant, session: SessionRef, end: Instant, ending: Ending) {
        self.engine().run_until(now, session, end, ending);
    }

    /// A flow that runs on a session is over: nothing more is sent on it.
    pub fn stop(&mut self, now: Instant, session: SessionRef) {
        self.engine().stop(now, session);
    }

    /// A packet that was entered ahead of its time, at `entered`, passes at `at`.
    pub(crate) fn put_off(
        &mut self,
        passed: SessionRef,
        refreshed: bool,
        entered: Instant,
        at: Instant,
    ) {
        self.bindings.put_off(passed, refreshed, entered, at);
    }

    /// Gives back the memory of everything that is only needed for packets still to come.
    pub(crate) fn release(&mut self) {
        self.bindings.release();
    }

    /// Ends everything whose time is up at `now`, after [`Device::release`].
    pub(crate) fn expire_finally(&mut self, now: Instant) {
        let ordered = self.recorder.is_told_in_order();
        self.engine().expire_finally(now, ordered);
    }
}
