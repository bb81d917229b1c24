//! What can be wrong, by name.

use zarnet_core::named;

named! {
    /// Why a flow does not work, or that it does.
    Cause {
        NoGateway, "no-gateway",
            "The sender has no gateway.";
        WrongGateway, "wrong-gateway",
            "The gateway of a host is nobody's, or not the device that it needs.";
        IngressFilter, "ingress-filter",
            "The filter on the interface it comes in by drops it.";
        EgressFilter, "egress-filter",
            "The filter on the interface it would leave by drops it.";
        FilterNotAttached, "filter-not-attached",
            "A filter that would drop it is attached to no interface.";
        NotForwarding, "not-forwarding",
            "The device does not forward between its interfaces.";
        NoRouteOut, "no-route-out",
            "A device on the way has no route to the destination, or one that leads nowhere.";
        NoRouteBack, "no-route-back",
            "A device on the way has no route back to the sender.";
        InterfaceWithoutRealm, "interface-without-realm",
            "An interface on the way is in no realm that rules or policies name.";
        RealmsSwapped, "realms-swapped",
            "The realms of two interfaces are the wrong way round.";
        SourceNotInList, "source-not-in-list",
            "The sender is not in the list of the rule that was meant.";
        DestinationNotInList, "destination-not-in-list",
            "The receiver is not in the list of the rule that was meant.";
        ServiceNotInList, "service-not-in-list",
            "The service is not in the list of the rule that was meant.";
        RuleDisabled, "rule-disabled",
            "The rule that was meant is disabled.";
        EarlierRule, "earlier-rule",
            "Another rule, listed earlier, takes the packet.";
        Exempted, "exempted",
            "A rule of type `exempt` takes the packet out of translation.";
        EmptyGroup, "empty-group",
            "The rule that was meant names a group with nothing in it.";
        NameContradictsValue, "name-contradicts-value",
            "The rule that was meant names a group whose value is not what its name says.";
        PoolExhausted, "pool-exhausted",
            "Every address of the pool is borrowed.";
        PortsExhausted, "ports-exhausted",
            "The external address has no port left for this host.";
        HostLimit, "host-limit",
            "The host has as many mappings as it may have.";
        RuleLimit, "rule-limit",
            "The rule holds as much as its `limit` allows.";
        DeviceFull, "device-full",
            "The device holds as much as it can.";
        PolicyMissing, "policy-missing",
            "No policy entry lets it pass between the two realms.";
        PolicySeesOtherAddress, "policy-sees-other-address",
            "The policy entry that was meant names the destination as the policy does not see it.";
        ExternalAddressNotHeld, "external-address-not-held",
            "Nobody answers for the external address.";
        LeaseChanged, "lease-changed",
            "A rule names an address that the interface no longer has by its lease.";
        UpstreamDoesNotRoute, "upstream-does-not-route",
            "The provider does not route the external address to the device.";
        ChainWrongAddress, "chain-wrong-address",
            "A device in front forwards to an address that is not that of the one behind it.";
        ChainWrongPort, "chain-wrong-port",
            "A device in front forwards to a port that the one behind it does not expect.";
        ForwardMissing, "forward-missing",
            "No rule leads the external address and port inside.";
        ServerNotListening, "server-not-listening",
            "The packet arrives at a port at which nobody listens.";
        ServerWithoutGateway, "server-without-gateway",
            "The server has no gateway to answer by.";
        HairpinOff, "hairpin-off",
            "The rule does not serve the realm that the packet comes from.";
        HairpinAnsweredDirectly, "hairpin-answered-directly",
            "The server answers its neighbour directly, who expects the answer from the external \
             address.";
        StartsAtDevice, "starts-at-device",
            "The device itself sends it, and no rule concerns its own traffic.";
        ProtocolNotCovered, "protocol-not-covered",
            "The rule that was meant does not cover this protocol, or cannot.";
        OldSessionAlive, "old-session-alive",
            "A session made before a change is still alive and goes on as it was made.";
        FilteredPeer, "filtered-peer",
            "A dynamic mapping does not let this peer in, because the inside has not addressed it.";
        AnswerByOtherLine, "answer-by-other-line",
            "What is sent, or the answer, leaves by one internet line with the address of another.";
        NoRule, "no-rule",
            "No rule is for this traffic.";
        OutsideFault, "outside-fault",
            "Nothing in the plan is at fault; look outside.";
        Works, "works",
            "It works.";
    }
}
