//! A device in the standard data models and back: the same meaning, or a loss that says why not.

use std::path::Path;

use proptest::prelude::*;
use zarnet_analysis::impact::impact;
use zarnet_core::plan::{DeviceId, Plan};
use zarnet_formats::data_model::{Foreign, canonical, check};
use zarnet_formats::ietf_nat::{Exported, LossKind, ModuleForm, export, import};
use zarnet_formats::plan::{LoadError, from_text};

use crate::plans::{plans, plans_of_one_outside};

/// The device of a plan sent through a document: the whole plan with what came back.
///
/// Where the document had to lose what keeps rules apart, it may be no plan: none then.
fn through(plan: &Plan, form: ModuleForm) -> Option<(Exported, Plan)> {
    let exported = export(plan, DeviceId(0), form);
    check(&exported.document, Foreign::Refused)
        .unwrap_or_else(|f| panic!("{f:?}\n{}", canonical(&exported.document)));
    let imported = import(&exported.document, "device")
        .unwrap_or_else(|e| panic!("{e:?}\n{}", canonical(&exported.document)));
    assert!(imported.left_out.is_empty(), "{:?}", imported.left_out);
    let back = from_text(Path::new("back.toml"), imported.text.clone());
    if back.is_err() && exported.losses.iter().any(|l| l.kind.changes_traffic()) {
        return None;
    }
    let back = back.unwrap_or_else(|e| {
        let told = match e {
            LoadError::Problems { problems, .. } => {
                problems.kept().iter().map(|p| p.error.to_string()).collect::<Vec<_>>().join("; ")
            }
            other => format!("{other:?}"),
        };
        panic!("{told}\n{}\n{}", imported.text, canonical(&exported.document))
    });
    let again = export(&back.plan, DeviceId(0), form);
    let (first, second) = (canonical(&exported.document), canonical(&again.document));
    let differs = first.lines().zip(second.lines()).position(|(a, b)| a != b);
    let around = |text: &str| -> Vec<String> {
        let from = differs.unwrap_or(0).saturating_sub(6);
        text.lines().skip(from).take(12).map(str::to_owned).collect()
    };
    assert!(
        first == second,
        "the octets differ: {:#?}\n{:#?}\n{}",
        around(&first),
        around(&second),
        imported.text
    );
    let whole = plan.with_device(DeviceId(0), &back.plan, DeviceId(0));
    Some((exported, whole))
}

fn same_meaning(text: &str, form: ModuleForm) {
    let plan = from_text(Path::new("plan.toml"), text.to_owned()).unwrap().plan;
    let Some((exported, whole)) = through(&plan, form) else { return };
    // what the device itself answers is no matter of its rules
    let is_told = |k: LossKind| k.changes_traffic() || k == LossKind::Interface;
    let told = exported.losses.iter().any(|l| is_told(l.kind));
    let settings = exported.losses.iter().any(|l| !l.kind.changes_traffic());
    let found = impact(&plan, &whole);
    if !told {
        let classes: Vec<String> = found
            .classes
            .iter()
            .map(|c| format!("{:?} {:?} {:?} -> {:?}", c.from, c.area, c.before, c.after))
            .collect();
        assert!(
            classes.is_empty(),
            "{classes:#?}\n{text}\n{}\n{:?}",
            canonical(&exported.document),
            exported.losses
        );
    }
    if !told && !settings {
        assert!(found.is_empty(), "{found:#?}\n{text}");
    }
}

/// Plans of one internal and one external side, which the standard can hold.
fn standard_plans() -> impl Strategy<Value = String> {
    let source = || {
        prop_oneof![
            Just("10.0.0.0/25"),
            Just("10.0.0.128-10.0.0.140"),
            Just("10.0.0.200"),
            Just("10.0.0.210-10.0.0.219"),
        ]
    };
    let protocol = || prop_oneof![4 => Just(""), 1 => Just("service = \"tcp\""), 1 => Just("service = [\"udp\", \"icmp\"]")];
    let who = || prop_oneof![3 => Just(""), 1 => Just("source = \"198.51.100.16-198.51.100.20\"")];
    let becomes = || prop_oneof![3 => Just(""), 1 => Just("as = \"floor\"")];
    let rule = prop_oneof![
        3 => (source(), protocol(), prop_oneof![Just("uplink"), Just("192.0.2.7"), Just("lines")])
            .prop_map(|(s, p, a)| format!("type = \"overload\"\nsource = \"{s}\"\n{p}\nas = \"{a}\"")),
        2 => (source(), protocol()).prop_map(|(s, p)| format!(
            "type = \"pool\"\nsource = \"{s}\"\n{p}\nas = \"lines\""
        )),
        1 => prop_oneof![Just("198.51.100.0/24"), Just("198.18.0.1-198.18.0.6")].prop_map(|d| format!(
            "type = \"exempt\"\ndestination = \"{d}\""
        )),
        2 => (0..20u8, who(), becomes(), protocol()).prop_map(|(n, w, a, p)| format!(
            "type = \"static\"\ninternal = \"10.0.0.{}\"\nexternal = \"198.18.1.{n}\"\n{w}\n{a}\n{}",
            220 + n, if p.contains("[") { "" } else { p }
        )),
        1 => Just("type = \"static\"\ninternal = \"10.0.0.241-10.0.0.246\"\nexternal = \"198.18.2.5-198.18.2.10\"".to_owned()),
        2 => (1..60u16, who(), becomes()).prop_map(|(n, w, a)| format!(
            "type = \"forward\"\nexternal = \"192.0.2.9:{}-{}/tcp\"\ninternal = \"10.0.0.250:{}\"\n{w}\n{a}",
            8000 + 10 * n, 8003 + 10 * n, 7000 + 10 * n
        )),
    ];
    let service = || prop_oneof![3 => Just("any"), 2 => Just("80/tcp"), 1 => Just("53-60/udp"), 1 => Just("icmp"), 1 => Just("tcp")];
    let ace = (
        any::<bool>(),
        service(),
        source(),
        prop_oneof![4 => Just("any"), 1 => Just("50000-65535/udp")],
    );
    let acl = proptest::option::of(proptest::collection::vec(ace, 1..4));
    let behaviour = prop_oneof![
        2 => Just(""),
        1 => Just("behaviour = { filtering = \"address-dependent\", ports-per-host = 100 }"),
        1 => Just("behaviour = { port-assignment = \"random\", mapping = \"address-and-port-dependent\" }"),
        1 => Just("behaviour = { port-classes = [\"1-65535 -> 5000-6000\"], hold-down-timeout = 30 }"),
        1 => Just("behaviour = \"carrier\""),
        1 => Just("behaviour = { pooling = \"arbitrary\", max-mappings = 500, port-parity = true }"),
    ];
    let timers = prop_oneof![
        2 => Just(""),
        1 => Just("timers = { udp-timeout = 30, per-port = { \"53/udp\" = 10, \"443/tcp\" = 900 } }"),
    ];
    let rules = proptest::collection::vec(rule, 0..5);
    (rules, acl, behaviour, timers).prop_map(|(rules, acl, behaviour, timers)| {
        let ingress = if acl.is_some() { "ingress-acl = \"in\"\n" } else { "" };
        let mut text = format!(
            "[[segment]]\nname = \"internet\"\ninternet = true\n[[device]]\nname = \"edge\"\n{behaviour}\n{timers}\n\
             [[device.interface]]\nname = \"floor\"\nrealm = \"internal\"\naddress = \"10.0.0.1/24\"\n{ingress}\
             [[device.interface]]\nname = \"uplink\"\nrealm = \"external\"\nsegment = \"internet\"\naddress = \"192.0.2.1/28\"\n\
             also = [\"192.0.2.9\"]\n\
             [[device.route]]\nto = \"0.0.0.0/0\"\nvia = \"192.0.2.14\"\n\
             [[device.pool]]\nname = \"lines\"\naddresses = [\"192.0.2.2-192.0.2.4\", \"198.18.3.0/29\"]\n"
        );
        for (n, rule) in rules.iter().enumerate() {
            text.push_str(&format!("[[device.rule]]\nname = \"r{n}\"\n{rule}\n"));
        }
        if let Some(acl) = acl {
            text.push_str("[[device.acl]]\nname = \"in\"\nentries = [\n");
            for (accept, service, source, from) in acl {
                let verdict = if accept { "accept" } else { "drop" };
                text.push_str(&format!(
                    "{{ {verdict} = \"{service}\", source = \"{source}\"{} }},\n",
                    if from != "any" && service == "53-60/udp" {
                        format!(", source-service = \"{from}\"")
                    } else {
                        String::new()
                    }
                ));
            }
            text.push_str("]\n");
        }
        text
    })
}

/// Of some plans, those in which nothing is wrong.
fn built(plans: impl Strategy<Value = String>) -> impl Strategy<Value = String> {
    plans.prop_filter("wrong", |t| from_text(Path::new("plan.toml"), t.clone()).is_ok())
}

proptest! {
    #![proptest_config(ProptestConfig {
        cases: std::env::var("PLANS").ok().and_then(|n| n.parse().ok()).unwrap_or(250),
        failure_persistence: None,
        ..ProptestConfig::default()
    })]

    #[test]
    fn with_our_module_a_device_comes_back_as_it_was(text in built(plans())) {
        same_meaning(&text, ModuleForm::WithPolicy);
    }

    #[test]
    fn in_the_standard_a_device_comes_back_or_a_loss_says_why_not(text in built(plans_of_one_outside())) {
        same_meaning(&text, ModuleForm::Standard);
    }

    #[test]
    fn what_the_standard_holds_comes_back_as_it_was(text in built(standard_plans())) {
        same_meaning(&text, ModuleForm::Standard);
        same_meaning(&text, ModuleForm::WithPolicy);
    }
}
