//! Random packets through the engine and through a reference model of the contract, packet by
//! packet: both say the same of each, and have the same table.
//! `CASES=1000000 SEED=7 cargo test --release -p zarnet-core --test reference_model` plays as many
//! as wanted; by default a few with a fixed seed and a few with a fresh one.

use std::net::{IpAddr, Ipv4Addr};

use proptest::prelude::*;
use zarnet_core::device::{Outcome, OwnSource};
use zarnet_core::event::{Action, Clearing, Event};
use zarnet_core::net::{Endpoint, Instant, Packet, Protocol, Signal, Tuple};
use zarnet_core::network::Network;
use zarnet_core::plan::{DeviceId, InterfaceId, PoolId, RuleId};
use zarnet_testkit::edge::cases;
use zarnet_testkit::reference::generate::{
    PEERS, SERVER, behaviours, host, lines, plain, plan_text, rules,
};
use zarnet_testkit::reference::own::Clearing as Cleared;
use zarnet_testkit::reference::{
    Became, Behaviour, Dependence, FLOOR, Kind, LANE, Model, Pick, Rule, S, UPLINK, Ways,
};

const LEASED: [Ipv4Addr; 2] = [Ipv4Addr::new(192, 0, 2, 1), Ipv4Addr::new(192, 0, 2, 2)];

/// What is sent or done next.
#[derive(Debug, Clone)]
enum Move {
    Send {
        ingress: usize,
        protocol: Protocol,
        signal: Signal,
        ends: Tuple,
    },
    /// The device sends from the address of an interface, or of the one that the route leads to.
    Own {
        from: Option<usize>,
        protocol: Protocol,
        signal: Signal,
        port: u16,
        to: Endpoint,
    },
    /// The reverse of what left as the n-th last.
    Answer(usize, Signal),
    /// What came in as the n-th last.
    Again(usize, Signal),
    /// The n-th rule takes part from now on, or no longer.
    Enable(usize, bool),
    /// Sessions end: of a host, of the n-th rule, on the pool, of a protocol.
    Clear(Option<Ipv4Addr>, Option<usize>, bool, Option<Protocol>),
    Restart,
    /// A plan with other rules takes over.
    Plan(Vec<Rule>),
    /// The uplink gets another address.
    Lease(Ipv4Addr),
}

fn protocols() -> impl Strategy<Value = (Protocol, Signal)> {
    prop_oneof![
        4 => Just((Protocol::TCP, Signal::Syn)),
        1 => Just((Protocol::TCP, Signal::Plain)),
        4 => Just((Protocol::UDP, Signal::Plain)),
        2 => Just((Protocol::ICMP, Signal::Query)),
        1 => Just((Protocol(47), Signal::Plain)),
    ]
}

fn moves() -> impl Strategy<Value = Vec<(u64, Move)>> {
    let hosts = proptest::sample::select(vec![host(5), host(6), host(7), SERVER, host(21)]);
    let peers = || proptest::sample::select(PEERS.to_vec());
    let ends = || {
        let uplink = [
            "192.0.2.1",
            "192.0.2.1",
            "192.0.2.2",
            "192.0.2.4",
            "192.0.2.8",
            "192.0.2.9",
            "192.0.2.10",
        ];
        let all = uplink.map(|a| (UPLINK, a.parse::<Ipv4Addr>().unwrap()));
        let lane = [(LANE, Ipv4Addr::new(203, 0, 113, 1)); 3];
        proptest::sample::select([&all[..], &lane].concat())
    };
    let port = || proptest::sample::select(vec![80u16, 700, 3000, 3001, 3002, 5000]);
    let inner = Just((FLOOR, Ipv4Addr::new(10, 0, 0, 1)));
    let out = (
        hosts,
        prop_oneof![6 => peers(), 4 => ends().prop_map(|e| e.1), 1 => inner.prop_map(|e| e.1)],
    )
        .prop_map(|(a, b)| (FLOOR, a, b));
    let back = (peers(), ends()).prop_map(|(a, (ingress, b))| (ingress, a, b));
    let with_ports = |protocol: Protocol, p: u16, q: u16| {
        (if protocol.is_multiplexed() { p } else { 0 }, if protocol.has_ports() { q } else { 0 })
    };
    let send = (prop_oneof![3 => out, 2 => back], protocols(), port(), port()).prop_map(
        move |((ingress, a, b), (protocol, signal), p, q)| {
            let (p, q) = with_ports(protocol, p, q);
            let ends = Tuple { source: Endpoint::new(a, p), destination: Endpoint::new(b, q) };
            Move::Send { ingress, protocol, signal, ends }
        },
    );
    let to = prop_oneof![5 => peers(), 2 => ends().prop_map(|e| e.1), 1 => Just(host(5))];
    let from = prop_oneof![Just(None), (0usize..3).prop_map(Some)];
    let own = (from, to, protocols(), port(), port()).prop_map(
        move |(from, to, (protocol, signal), p, q)| {
            let (port, q) = with_ports(protocol, p, q);
            Move::Own { from, protocol, signal, port, to: Endpoint::new(to, q) }
        },
    );
    let signal = || {
        use Signal::{Fin, Plain, Rst, Syn, SynAck};
        proptest::sample::select(vec![Plain, Plain, Syn, SynAck, SynAck, Fin, Fin, Rst])
    };
    let some = |weight| proptest::option::weighted(weight, Just(()));
    let clear = (some(0.3), some(0.3), 0usize..5, prop::bool::weighted(0.2), some(0.2)).prop_map(
        |(by_host, by_rule, rule, pool, protocol)| {
            Move::Clear(
                by_host.map(|()| host(5)),
                by_rule.map(|()| rule),
                pool,
                protocol.map(|()| Protocol::UDP),
            )
        },
    );
    let next = prop_oneof![
        8 => send,
        2 => own,
        8 => (0usize..6, signal()).prop_map(|(n, s)| Move::Answer(n, s)),
        4 => (0usize..6, signal()).prop_map(|(n, s)| Move::Again(n, s)),
        2 => prop_oneof![
            6 => (0usize..5, any::<bool>()).prop_map(|(n, on)| Move::Enable(n, on)),
            6 => clear,
            1 => Just(Move::Restart),
            6 => rules().prop_map(Move::Plan),
            2 => proptest::sample::select(LEASED.to_vec()).prop_map(Move::Lease),
        ],
    ];
    proptest::collection::vec((prop_oneof![4 => 0u64..8, 1 => 0u64..60], next), 1..60)
}

/// A packet with another signal, where its protocol has one.
fn signalled(mut packet: Packet, signal: Signal) -> Packet {
    if packet.protocol == Protocol::TCP {
        packet.signal = signal;
    }
    packet
}

/// Engine and model side by side.
struct Both {
    network: Network,
    model: Model,
    b: Behaviour,
    /// How many rules the present plan has.
    count: usize,
    /// What came in, and where.
    came: Vec<Came>,
    /// What left, and by which interface.
    left: Vec<(Packet, usize)>,
}

/// A packet, where it came in unless the device sent it, and how its source was found then.
type Came = (Packet, Option<usize>, OwnSource);

/// The ends of a packet and the interface that it leaves by, if it does; or the reason for its
/// drop, and whose fault it is.
type Told = Result<(Tuple, Option<usize>), zarnet_testkit::reference::Refused>;

const EDGE: DeviceId = DeviceId(0);

impl Both {
    fn new(rules: Vec<Rule>, b: Behaviour) -> Self {
        let network = Network::new(zarnet_testkit::edge::plan(&plan_text(&rules, &b)), 7, None);
        let count = rules.len();
        Self {
            network,
            model: Model::new(rules, b.clone()),
            b,
            count,
            came: Vec::new(),
            left: Vec::new(),
        }
    }

    fn act(&mut self, now: u64, action: Action) {
        self.network.act(&Event { at: Instant(now), device: EDGE, action });
    }

    /// Does something that is no packet to both; gives a packet back that is to be sent, and where
    /// it comes in.
    fn prepare(&mut self, now: u64, next: Move) -> Option<Came> {
        match next {
            Move::Send { ingress, protocol, signal, ends } => {
                return Some((Packet { protocol, signal, ends }, Some(ingress), OwnSource::Given));
            }
            Move::Own { from, protocol, signal, port, to } => {
                let device = &self.network.devices()[0];
                let interface = |i: usize| device.plan().interfaces[i].addresses[0].0;
                let source = from.map_or_else(|| device.own_source(to.address).unwrap(), interface);
                let how = if from.is_some() { OwnSource::Given } else { OwnSource::ByRoute };
                let ends = Tuple { source: Endpoint::new(source, port), destination: to };
                return Some((Packet { protocol, signal, ends }, None, how));
            }
            Move::Answer(n, signal) => {
                let (packet, interface) = *self.left.iter().rev().nth(n)?;
                return Some((
                    signalled(Packet::answer(packet), signal),
                    Some(interface),
                    OwnSource::Given,
                ));
            }
            Move::Again(n, signal) => {
                let (packet, ingress, how) = *self.came.iter().rev().nth(n)?;
                return Some((signalled(packet, signal), ingress, how));
            }
            Move::Enable(n, enabled) => {
                let rule = RuleId((n % self.count) as u16);
                self.model.enable(now, rule.index(), enabled);
                self.act(now, if enabled { Action::Enable(rule) } else { Action::Disable(rule) });
            }
            Move::Clear(host, rule, pool, protocol) => {
                let (host, rule) = (host.map(IpAddr::V4), rule.map(|n| n % self.count));
                self.model.clear(now, Cleared { host, rule, pool, protocol });
                let (rule, pool) = (rule.map(|r| RuleId(r as u16)), pool.then_some(PoolId(0)));
                self.act(now, Action::Clear(Clearing { host, rule, pool, protocol }));
            }
            Move::Restart => {
                self.model.restart(now);
                self.act(now, Action::Restart);
            }
            Move::Lease(address) => {
                let prefix = "192.0.2.0/28".parse().unwrap();
                self.act(now, Action::Lease(InterfaceId(UPLINK as u16), address.into(), prefix));
                self.model.lease(now, address);
            }
            Move::Plan(rules) => {
                self.act(
                    now,
                    Action::Plan(zarnet_testkit::edge::plan(&plan_text(&rules, &self.b)), EDGE),
                );
                self.count = rules.len();
                self.model.take_over(now, rules);
            }
        }
        None
    }
}

/// What became of a packet, as both can say it.
fn told(outcome: Outcome) -> Told {
    match outcome {
        Outcome::Forwarded(out) | Outcome::Answered(out) => {
            Ok((out.packet.ends, Some(out.interface.index())))
        }
        Outcome::Consumed(taken) => Ok((taken.packet.ends, None)),
        Outcome::Dropped(refusal) => Err((refusal.reason.name(), refusal.rule.map(RuleId::index))),
    }
}

fn agree(rules: Vec<Rule>, b: Behaviour, moves: Vec<(u64, Move)>) -> Result<(), TestCaseError> {
    let mut both = Both::new(rules, b);
    let mut now = 0;
    for (pause, next) in moves {
        now += pause * S;
        let Some((packet, ingress, how)) = both.prepare(now, next) else { continue };
        // an address that will be leased later is nobody's until then
        let to = packet.destination().address;
        if LEASED.iter().any(|a| to == IpAddr::V4(*a)) && to != both.model.uplink() {
            continue;
        }
        let device = both.network.device_mut(EDGE);
        let (wanted, outcome) = match ingress {
            Some(i) => (
                both.model.receive(now, i, packet),
                device.receive(Instant(now), InterfaceId(i as u16), packet),
            ),
            None => (
                both.model.originate(now, how == OwnSource::ByRoute, packet),
                device.originate_watched(Instant(now), packet, how, &mut ()),
            ),
        };
        if both.model.is_open {
            return Ok(());
        }
        both.came.push((packet, ingress, how));
        if let Outcome::Forwarded(out) = outcome {
            both.left.push((out.packet, out.interface.index()));
        }
        let wanted = wanted.map(|became| match became {
            Became::Leaves(out) | Became::Answered(out) => (out.ends, Some(out.egress)),
            Became::Taken(ends, _) => (ends, None),
        });
        prop_assert_eq!(told(outcome), wanted, "{:?} by {:?} at {}", packet, ingress, Instant(now));
        let rows = zarnet_testkit::reference::in_order(both.model.rows(now));
        let device = both.network.device_mut(EDGE);
        let table = zarnet_testkit::reference::rows_of(&zarnet_testkit::edge::mappings_at(
            device,
            Instant(now),
        ));
        prop_assert_eq!(table, rows, "after {:?} at {}", packet, Instant(now));
        prop_assert_eq!(device.session_count(), both.model.session_count());
    }
    let counters = both.network.devices()[0].counters();
    for (rule, counts) in counters.rules.iter().zip(&both.model.counts) {
        let got = (rule.hits, rule.expired, rule.cleared, rule.refused);
        prop_assert_eq!(got, (counts.opened, counts.expired, counts.cleared, counts.refused));
    }
    prop_assert_eq!(counters.refused, both.model.refused[0]);
    Ok(())
}

#[test]
fn the_engine_and_a_plain_reading_of_the_contract_agree() {
    cases(file!(), 2_000, (rules(), behaviours(), moves()), |(rules, b, moves)| {
        agree(rules, b, moves)
    });
}

/// The reference model refuses by itself, without the engine beside it.
#[test]
fn the_reference_model_refuses_what_it_should() {
    let rules = vec![plain("all", Kind::Pool)];
    let b = Behaviour {
        mapping: Dependence::None,
        filtering: Dependence::Address,
        paired: true,
        sequential: false,
        parity: false,
        pick: Pick::Lowest,
        few_ports: false,
        fixed_first: false,
        keep: false,
        refresh_both: false,
        ports_per_host: None,
        max_mappings: None,
        max_sessions: None,
        binding: 0,
        hold_down: 0,
        block_size: None,
        overloading: false,
        prefixed: false,
        lacks_icmp: false,
        as_came: false,
        translates_own: false,
        ways: Ways { of_source: None, from: None, plain: false },
        checks: false,
    };
    let mut model = Model::new(rules, b);
    let mut send = |n: u8| {
        let first =
            Packet::first(Protocol::UDP, Endpoint::new(host(n), 5000), Endpoint::new(PEERS[0], 53));
        match model.receive(0, FLOOR, first) {
            Ok(Became::Leaves(out)) => Ok(out.ends.source.address),
            other => Err(other),
        }
    };
    assert_eq!(send(5), Ok(lines(false)[0].into()));
    assert_eq!(send(6), Ok(lines(false)[1].into()));
    assert_eq!(send(7), Err(Err(("pool-exhausted", Some(0)))));
}
