//! A device without its rules: interfaces, routes, filters, policies, pools.

use super::{Builder, PlanError, Scope, Text};
use crate::limits;
use crate::net::{Prefix, PrefixMap, ServiceSet};
use crate::plan::{
    Acl, AclEntry, AclId, DevicePlan, DraftAclEntry, DraftDevice, DraftInterface, DraftPool,
    DraftRoute, Interface, InterfaceId, InterfaceSet, Parties, Pick, Plan, Policy, Pool, PoolId,
    RealmSet, Route, RouteCondition, Verdict,
};

impl Builder {
    pub(super) fn device(&mut self, draft: &DraftDevice, plan: &mut Plan) -> Option<DevicePlan> {
        self.unique("interface", draft.interfaces.iter().map(|i| &i.name));
        self.unique("filter", draft.acls.iter().map(|a| &a.name));
        self.unique("pool", draft.pools.iter().map(|p| &p.name));
        self.unique("rule", draft.rules.iter().map(|r| &r.name));
        self.scope = Scope::of_draft(draft);
        let verdicts = [("accept", Verdict::Accept), ("drop", Verdict::Drop)];
        let default_policy =
            draft.default_policy.as_ref().and_then(|p| self.one_of("default-policy", p, &verdicts));
        let mut device = DevicePlan {
            name: draft.name.value.clone(),
            behaviour: self.behaviour(&draft.behaviour),
            timers: self.timers(draft),
            forwarding: draft.forwarding,
            default_policy: default_policy.unwrap_or(Verdict::Accept),
            default_policy_place: draft.default_policy.as_ref().map_or(draft.place, |p| p.place),
            interfaces: Vec::new(),
            routes: Vec::new(),
            acls: Vec::new(),
            policies: Vec::new(),
            pools: Vec::new(),
            rules: Vec::new(),
            place: draft.place,
        };
        for acl in &draft.acls {
            let entries = acl.entries.iter().filter_map(|e| self.acl_entry(e)).collect();
            device.acls.push(Acl { name: acl.name.value.clone(), entries, place: acl.place });
        }
        let named = plan.segments.len();
        for interface in &draft.interfaces {
            let interface = self.interface(interface, draft, named, plan);
            device.interfaces.push(interface);
        }
        self.scope.enter_interfaces(&device.interfaces);
        let mut connected = PrefixMap::default();
        connected.extend(
            (0..)
                .zip(&device.interfaces)
                .flat_map(|(i, f)| f.addresses.iter().map(move |a| (a.1, i))),
        );
        for route in &draft.routes {
            if let (Some(to), Some(via)) =
                (self.parse::<Prefix>(&route.to), self.address(&route.via))
            {
                let condition = self.route_condition(route, to);
                // the longest connected prefix, the first listed of equals
                match connected.holding(via).next().and_then(|interfaces| interfaces.first()) {
                    Some(i) => {
                        let (interface, place) = (InterfaceId(*i), route.place);
                        device.routes.push(Route { to, via, interface, condition, place });
                    }
                    None => self.report(PlanError::ViaUnreachable(via), route.via.place),
                }
            }
        }
        for policy in &draft.policies {
            let realm_set = |texts: &Option<Vec<Text>>| texts.clone().map(|t| self.realm_set(t));
            let (from, into) = (realm_set(&policy.from), realm_set(&policy.into));
            let parties = self.parties(policy.source.as_ref(), policy.destination.as_ref());
            let accept_drop =
                self.accept_or_drop(policy.accept.as_ref(), policy.drop.as_ref(), policy.place);
            if let Some((verdict, service)) = accept_drop {
                device.policies.push(Policy {
                    from,
                    into,
                    verdict,
                    service,
                    parties,
                    place: policy.place,
                });
            }
        }
        for pool in &draft.pools {
            if let Some(pool) = self.pool(pool) {
                self.scope.enter_pool(&pool.name, PoolId(device.pools.len() as u16));
                device.pools.push(pool);
            }
        }
        self.rules(draft, &mut device);
        Some(device)
    }

    /// Which packets a route is for. A condition that no packet can meet is an error: the route
    /// would never be taken.
    fn route_condition(&mut self, draft: &DraftRoute, to: Prefix) -> Option<RouteCondition> {
        if draft.source.is_none() && draft.from.is_none() {
            return None;
        }
        let before = self.problems.count();
        let source = self.addresses_or_all(draft.source.as_ref());
        let of_family = source.ranges().any(|r| r.first().is_ipv4() == to.first().is_ipv4());
        if let (Some(texts), false) = (&draft.source, of_family || self.problems.count() > before) {
            let why = if source.is_empty() {
                "lists no address"
            } else {
                "lists no address of the family of `to`"
            };
            let place = texts.first().map_or(draft.place, |t| t.place);
            self.report(PlanError::RouteNeverTaken { key: "source", why }, place);
        }
        let from = draft.from.as_ref().map(|names| {
            for name in
                names.iter().filter(|n| self.scope.realm(&n.value).is_none()).collect::<Vec<_>>()
            {
                let known: Vec<String> = self.scope.realm_names().map(str::to_owned).collect();
                self.unknown("realm or interface", name, known.iter().map(String::as_str));
            }
            if names.is_empty() {
                let error = PlanError::RouteNeverTaken {
                    key: "from",
                    why: "names no realm and no interface",
                };
                self.report(error, draft.place);
            }
            self.realm_set(names.clone())
        });
        Some(RouteCondition { source, from })
    }

    fn interface(
        &mut self,
        draft: &DraftInterface,
        device: &DraftDevice,
        named: usize,
        plan: &mut Plan,
    ) -> Interface {
        let ingress_acl = draft.ingress_acl.as_ref().and_then(|name| self.filter(name, device));
        let egress_acl = draft.egress_acl.as_ref().and_then(|name| self.filter(name, device));
        let segment = draft.segment.as_ref().and_then(|s| self.segment(s, named, plan));
        let addresses = draft.address.iter().filter_map(|a| {
            let parsed = Prefix::parse_with_address(a.value.trim());
            self.take(parsed, a.place)
        });
        let addresses = addresses.collect();
        Interface {
            name: draft.name.value.clone(),
            realm: draft.realm.as_ref().map(|r| r.value.clone()),
            segment: segment.unwrap_or_else(|| Self::new_segment(plan, &draft.name)),
            addresses,
            lease: draft.lease.value,
            also: draft.also.iter().flatten().filter_map(|a| self.address(a)).collect(),
            proxy_arp: self.addresses(draft.proxy_arp.as_deref().unwrap_or_default()),
            ping: draft.ping.value,
            services: self.services(draft.services.as_deref().unwrap_or_default()),
            ingress_acl,
            egress_acl,
            place: draft.place,
        }
    }

    fn filter(&mut self, name: &Text, device: &DraftDevice) -> Option<AclId> {
        let found = self.scope.filter(&name.value);
        if found.is_none() {
            self.unknown("filter", name, device.acls.iter().map(|a| a.name.value.as_str()));
        }
        found
    }

    pub(super) fn parties(
        &mut self,
        source: Option<&Vec<Text>>,
        destination: Option<&Vec<Text>>,
    ) -> Parties {
        Parties {
            source: self.addresses_or_all(source),
            destination: self.addresses_or_all(destination),
        }
    }

    fn acl_entry(&mut self, draft: &DraftAclEntry) -> Option<AclEntry> {
        let parties = self.parties(draft.source.as_ref(), draft.destination.as_ref());
        let source_service = self.services_or_any(draft.source_service.as_ref());
        let (verdict, service) =
            self.accept_or_drop(draft.accept.as_ref(), draft.drop.as_ref(), draft.place)?;
        Some(AclEntry {
            verdict,
            service,
            source_service,
            parties,
            answers: draft.answers.value,
            place: draft.place,
        })
    }

    fn accept_or_drop(
        &mut self,
        accept: Option<&Vec<Text>>,
        drop: Option<&Vec<Text>>,
        place: crate::plan::Place,
    ) -> Option<(Verdict, ServiceSet)> {
        match (accept, drop) {
            (Some(services), None) => Some((Verdict::Accept, self.services(services))),
            (None, Some(services)) => Some((Verdict::Drop, self.services(services))),
            _ => {
                self.report(PlanError::AcceptOrDrop, place);
                None
            }
        }
    }

    fn pool(&mut self, draft: &DraftPool) -> Option<Pool> {
        let pick = draft
            .pick
            .as_ref()
            .and_then(|p| self.one_of("pick", p, &Pick::NAMES))
            .unwrap_or(Pick::Lowest);
        let usable = [("all", true), ("hosts", false)];
        let usable_all =
            draft.usable.as_ref().and_then(|u| self.one_of("usable", u, &usable)).unwrap_or(false);
        let named: Vec<_> =
            draft.addresses.iter().map(|a| self.groups.addresses(a, &mut self.problems)).collect();
        let parts = named.iter().flat_map(|n| n.iter().copied()).collect();
        let pool = Pool {
            name: draft.name.value.clone(),
            parts,
            pick,
            usable_all,
            retired: false,
            place: draft.place,
        };
        self.pool_size(&pool).then_some(pool)
    }

    /// Whether a pool is small enough.
    pub(super) fn pool_size(&mut self, pool: &Pool) -> bool {
        let count = pool.listed().count();
        if count > limits::POOL_ADDRESSES {
            self.report(PlanError::PoolTooLarge(count), pool.place);
        }
        count <= limits::POOL_ADDRESSES
    }

    /// The interfaces that realm or interface names come to. A name that none has comes to nothing,
    /// which is what the device makes of it; the audit tells.
    pub(super) fn realm_set(&self, names: Vec<Text>) -> RealmSet {
        let mut interfaces = InterfaceSet::default();
        names
            .iter()
            .filter_map(|n| self.scope.realm(&n.value))
            .for_each(|set| interfaces.extend(set));
        RealmSet { names, interfaces }
    }
}
