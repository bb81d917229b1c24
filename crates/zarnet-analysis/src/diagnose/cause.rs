//! What can be wrong, by name.

use zarnet_core::named;

named! {
    /// Why a flow does not work, or that it does.
    Cause {
        NoGateway, "no-gateway",
            "The sender has no gateway.",
            "A host without a gateway reaches its own link only.",
            "`gateway` of a device on its segment";
        WrongGateway, "wrong-gateway",
            "The host's gateway address belongs to no device, or to the wrong one.",
            "No device answers for the gateway, it is a host, or it is another device than the \
             one that the packet came by.",
            "the address of a device on its segment";
        IngressFilter, "ingress-filter",
            "The filter on the interface it comes in by drops it.",
            "The filter sees the packet as it comes in.",
            "an entry for this service, sender and receiver; the filter off the interface";
        EgressFilter, "egress-filter",
            "The filter on the interface it would leave by drops it.",
            "The filter sees the packet as it leaves, with translated addresses.",
            "the same";
        FilterNotAttached, "filter-not-attached",
            "A filter that would drop it is attached to no interface.",
            "What should be refused passes: the filter that would drop it is attached nowhere.",
            "`ingress-acl` or `egress-acl` of an interface";
        AnswersNotAccepted, "answers-not-accepted",
            "A filter drops the answer of a session that it let out.",
            "Filters look at every packet, answers too.",
            "an entry with `answers = true`";
        NotForwarding, "not-forwarding",
            "The device does not forward between its interfaces.",
            "The device talks to both sides and passes nothing on.",
            "`forwarding` on";
        NoRouteOut, "no-route-out",
            "A device on the way has no route to the destination, or one that leads nowhere.",
            "No route, a route to an address that no device has, or routes in a circle.",
            "a route by the device that has the destination, or by the provider";
        NoRouteBack, "no-route-back",
            "A device on the way has no route back to the sender.",
            "The answer is sent towards the provider, or reaches a device that has no session for \
             it.",
            "a route to the sender's prefix";
        NextHopUnanswered, "next-hop-unanswered",
            "A route leads to a next hop that no device or host has.",
            "The route is there, and nobody answers for its `via`.",
            "the address of the device, or of the provider, that is there";
        HostMask, "host-mask",
            "The host's prefix length is not that of its link.",
            "Too wide, it takes distant addresses for neighbours; too narrow, its gateway lies \
             outside.",
            "the length that the interface on its link has";
        InterfaceMask, "interface-mask",
            "The interface's prefix length is not that of the hosts on its link.",
            "Hosts outside of it are sought elsewhere, or distant ones on the link.",
            "the length that the hosts have";
        WrongSegment, "wrong-segment",
            "An interface or a host is on another segment than its neighbours.",
            "The cable, or the VLAN, is in the wrong place.",
            "the segment where its prefix is; two segments swapped";
        InterfaceWithoutRealm, "interface-without-realm",
            "An interface on the way is in no realm that rules or policies name.",
            "Rules name realms; what passes an interface outside of them matches none.",
            "`realm` of the interface";
        RealmWithoutInterface, "realm-without-interface",
            "A rule or policy entry names a realm that no interface has.",
            "A slip of the pen: the name stands nowhere else.",
            "the name of the realm that the interface has";
        RuleScope, "rule-scope",
            "The rule that was meant is for other realms, or for the other direction.",
            "`from`, `into` or `direction` of the rule leave the packet out.",
            "the key as the packet needs it";
        RealmsSwapped, "realms-swapped",
            "The realms of two interfaces are the wrong way round.",
            "Inside is called external and outside internal.",
            "both swapped";
        SourceNotInList, "source-not-in-list",
            "The sender is not in the list of the rule that was meant.",
            "A slip in a prefix or its length, or a host that was forgotten. The rule whose list \
             comes nearest is tried first.",
            "the host in the list; the whole prefix";
        DestinationNotInList, "destination-not-in-list",
            "The receiver is not in the list of the rule that was meant.",
            "The rule is for other receivers.",
            "the receiver in the list";
        ServiceNotInList, "service-not-in-list",
            "The service is not in the list of the rule that was meant.",
            "The rule is for other services of this protocol.",
            "the service in the list";
        RuleDisabled, "rule-disabled",
            "The rule that was meant is disabled.",
            "The rule would match if it took part.",
            "`enabled` taken out";
        DisabledByEvent, "disabled-by-event",
            "The rule that was meant was disabled in the course of the day.",
            "The plan has it enabled; an event of the traffic switched it off.",
            "nothing in the plan: the rule enabled on the device again";
        MappingEnded, "mapping-ended",
            "The mapping that let the packet in has ended by then.",
            "Its timer was up, or an event of the day ended it; from outside only the inside can \
             be answered.",
            "a longer timer; the connection opened from inside again";
        EarlierRule, "earlier-rule",
            "Another rule, listed earlier, takes the packet.",
            "A rule above matches too, and wins.",
            "the rule moved up";
        Exempted, "exempted",
            "A rule of type `exempt` takes the packet out of translation.",
            "An exemption is wider than meant.",
            "a rule for this host above it; the rule moved up; the exemption disabled";
        EmptyGroup, "empty-group",
            "The rule that was meant names a group with nothing in it.",
            "The list names a group with nothing in it.",
            "the host, or the prefix, in the group";
        NameContradictsValue, "name-contradicts-value",
            "The rule that was meant names a group whose value is not what its name says.",
            "A group's name spells out an address that its value does not hold (`net-10-70-1` \
             with 10.70.2.0/24): a leftover of copy and paste.",
            "the value that the name says";
        UntranslatedRuleMissing, "untranslated-rule-missing",
            "What should stay as it is gets translated.",
            "No rule of type `exempt` takes it out, or the one that was meant is for others.",
            "an exemption above the rule; the receiver in the list of the one that is there";
        ArrivesElsewhere, "arrives-elsewhere",
            "It arrives, and elsewhere or otherwise than the plan expects.",
            "A rule leads to another server, or shows another address, than an expectation says.",
            "`internal` or `as` of the rule as expected; two rules that are crossed";
        OpenToOthers, "open-to-others",
            "What the plan expects to be refused is let in.",
            "A rule or policy entry is wider than an expectation says.",
            "`source` or `service` of the rule; an entry that drops it; the rule disabled";
        PoolExhausted, "pool-exhausted",
            "Every address of the pool is borrowed.",
            "Every address is borrowed; the verdict says by whom.",
            "overload when it is used up; one more address; clear what is given back first";
        PortsExhausted, "ports-exhausted",
            "The external address has no port left for this host.",
            "No port of the class is free.",
            "overload another address then; clear a holder";
        HostLimit, "host-limit",
            "The host has as many mappings as it may have.",
            "`ports-per-host` is reached.",
            "twice as many";
        RuleLimit, "rule-limit",
            "The rule holds as much as its `limit` allows.",
            "`limit` is reached.",
            "twice as many";
        DeviceFull, "device-full",
            "The device holds as much as it can.",
            "`max-mappings` or `max-sessions` is reached.",
            "twice as many";
        PolicyMissing, "policy-missing",
            "No policy entry lets it pass between the two realms.",
            "A rule opens nothing by itself.",
            "a policy entry as narrow as the flow";
        PolicySeesOtherAddress, "policy-sees-other-address",
            "The policy entry that was meant names the destination as the policy does not see it.",
            "The entry names the destination as sent where the policy looks at it as translated, \
             or the other way round.",
            "an entry for what it sees; `policy-sees`";
        ExternalAddressNotHeld, "external-address-not-held",
            "No device answers for the external address.",
            "Answers arrive at the provider, and no device answers ARP for the address.",
            "`proxy-arp` or `also` of the interface";
        LeaseChanged, "lease-changed",
            "A rule names an address that the interface no longer has by its lease.",
            "A rule names an address literally that is assigned by a lease.",
            "the interface instead of the address";
        UpstreamDoesNotRoute, "upstream-does-not-route",
            "The provider does not route the external address to the device.",
            "The block is not (yet) routed to the device.",
            "to be ordered from the provider; `routed` of the segment says that it is";
        ChainWrongAddress, "chain-wrong-address",
            "The first of two devices forwards to an address that the second does not have.",
            "Of two devices in a row, the first forwards to an address that no device has.",
            "the address of the next device, or of the server";
        ChainWrongPort, "chain-wrong-port",
            "The first of two devices forwards to a port that the second does not expect.",
            "Of two devices in a row, one leads to a port, and the other waits at another.",
            "either made to agree with the other";
        ForwardMissing, "forward-missing",
            "No rule leads the external address and port inside.",
            "Nothing leads the external port, or a private address asked for from outside, \
             inside.",
            "a forward to a server that listens to it; the external end to use instead";
        ServerNotListening, "server-not-listening",
            "The packet arrives at a port on which nothing listens.",
            "The packet arrives at a port, or an address, on which nothing listens.",
            "the port that the server listens to; `listens`";
        ServerWithoutGateway, "server-without-gateway",
            "The server has no gateway to answer by.",
            "The server gets the packet, and has no way to answer.",
            "its gateway; `as`, so that the device stands in for the client";
        HairpinOff, "hairpin-off",
            "The rule does not serve the realm that the packet comes from.",
            "The rule does not serve the realm that the packet comes from.",
            "`hairpin`";
        HairpinAnsweredDirectly, "hairpin-answered-directly",
            "The server answers its neighbour directly, who expects the answer from the external \
             address.",
            "Client and server are neighbours; the answer does not pass the device.",
            "`hairpin-source = \"external\"`; `as`";
        StartsAtDevice, "starts-at-device",
            "The device itself sends it, and no rule concerns its own traffic.",
            "A test from the device itself shows nothing of its rules.",
            "to be tested from a host";
        ProtocolNotCovered, "protocol-not-covered",
            "The rule that was meant does not cover this protocol, or cannot.",
            "The rule's services do not hold the protocol, or it cannot be overloaded by two \
             hosts for one peer.",
            "the protocol in the list; a static of its own";
        OldSessionAlive, "old-session-alive",
            "A session made before a change is still alive and goes on as it was made.",
            "Disabling a rule ends no session.",
            "clear the host's sessions";
        FilteredPeer, "filtered-peer",
            "A dynamic mapping does not let this peer in, because the inside has not addressed \
             it.",
            "The inside has not addressed this peer.",
            "`filtering`, or a forward";
        AnswerByOtherLine, "answer-by-other-line",
            "What is sent, or the answer, leaves by one internet line with the address of \
             another.",
            "What is sent, or its answer, leaves by one line to the internet with the address of \
             another, whose provider drops it.",
            "`answers-leave = \"as-came\"`, or a route with `source`";
        NoRule, "no-rule",
            "No rule is for this traffic.",
            "No rule is near.",
            "an overload onto the interface that it leaves by";
        OutsideFault, "outside-fault",
            "Nothing in the plan is at fault; look outside.",
            "The plan translates and delivers it, or a machine outside the plan is missing.",
            "none in the plan";
        Works, "works",
            "It works.",
            "Nothing is wrong in the plan.",
            "none";
    }
}
