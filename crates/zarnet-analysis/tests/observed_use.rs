//! What tables of a device say of its supplies.

use std::path::Path;

use zarnet_analysis::capacity::{TakenTable, of_observed};
use zarnet_core::device::Supply;
use zarnet_formats::observed::{Form, parse};
use zarnet_formats::plan::{Loaded, from_text};
use zarnet_testkit::edge::{OVERLOAD, plan_text};

fn loaded(behaviour: &str, timers: &str, rules: &str) -> Loaded {
    from_text(Path::new("p.toml"), plan_text(behaviour, timers, rules)).unwrap()
}

fn ports(s: Supply) -> bool {
    matches!(s, Supply::Ports(..))
}

#[test]
fn rows_of_a_table_are_counted_once_and_what_does_not_fit_is_told() {
    let plan =
        loaded("{ port-classes = [\"1-65535 -> 3000-3003\"], max-mappings = 6 }", "{}", OVERLOAD);
    let table = "protocol,internal,internal-port,external,external-port,peer,created,expires\n\
        udp,10.0.0.5,1000,192.0.2.1,3000,198.51.100.1,1,50\n\
        udp,10.0.0.5,1000,192.0.2.1,3000,198.51.100.2,3,90\n\
        udp,10.0.0.6,1000,192.0.2.1,3001,,2,60\n\
        udp,10.0.0.6,1000,192.0.2.1,9999,,2,60\n\
        udp,10.0.0.7,1000,192.0.2.77,3001,,2,60\n";
    let taken = |day: f64, rows: &str| TakenTable {
        rows: parse(rows, Form::default(), &plan.plan).unwrap(),
        day,
    };
    let seen = of_observed(&plan, &[taken(0.0, table)], None, None, None).ok().unwrap();
    assert_eq!(seen.rows_apart, [1, 1, 1], "of no rule, outside of the class, twice");
    let of = |is: &dyn Fn(Supply) -> bool| seen.resources.iter().find(|r| is(r.supply)).unwrap();
    let own = of(&ports);
    assert_eq!((own.in_use, own.series.usable, own.holders.len()), (2, Some(4), 2));
    assert_eq!(own.holders[0].until.seconds(), 50.0);
    assert_eq!(of(&|s| s == Supply::Mappings).series.usable, Some(6));
    // three tables show how use grows
    let rows = |n: u8| {
        (0..n)
            .fold("protocol,internal,internal-port,external,external-port\n".to_owned(), |t, i| {
                t + &format!("udp,10.0.0.{},1000,192.0.2.1,{}\n", 5 + i, 3000 + u16::from(i))
            })
    };
    let tables = [taken(0.0, &rows(1)), taken(30.0, &rows(2)), taken(60.0, &rows(4))];
    let grown = of_observed(&plan, &tables, None, None, None).ok().unwrap();
    let rate = grown.growth[0].unwrap();
    assert!((rate.a_month - (2f64.ln() / 30.0 * 30.44).exp_m1()).abs() < 1e-6, "{rate:?}");
}
