//! Examples at the end of the help of each command. Those on plans work on the demo estate.

pub const DEMO: &str = r#"Examples:
  zarnet demo
  zarnet demo my-estate"#;

pub const NEW: &str = r#"Examples:
  zarnet new edge.toml
  zarnet new edge.toml --internal 10.7.0.1/22 --external 198.51.100.2/29"#;

pub const CHECK: &str = r#"Examples:
  zarnet check harbour.toml
  zarnet check harbour.toml --deny rule-shadowed --format json"#;

pub const BEHAVIOUR: &str = r#"Examples:
  zarnet behaviour carrier
  zarnet behaviour harbour.toml"#;

pub const PREDICT: &str = r#"Examples:
  zarnet predict harbour.toml morning.csv --at peak
  zarnet predict harbour.toml morning.csv --timeline --rows 0
  zarnet predict harbour.toml quay.pcap.gz --seen-at harbour-edge/quay"#;

pub const FOLLOW: &str = r#"Examples:
  zarnet follow harbour.toml "kiosk-3 -> 198.51.100.80:443/tcp"
  zarnet follow harbour.toml "office-5 -> 198.51.100.80:443/tcp" --during morning.csv --at 2h20m"#;

pub const EXPECT: &str = r#"Examples:
  zarnet expect harbour.toml
  zarnet expect harbour.toml --junit report.xml"#;

pub const WHY: &str = r#"Examples:
  zarnet why plan.toml "198.51.100.80 -> 203.0.113.2:443/tcp"
  zarnet why plan.toml "198.51.100.80 -> 203.0.113.2:443/tcp" --apply 1"#;

pub const DEFINE: &str = r#"Examples:
  zarnet define harbour.toml forward uplink:24070/tcp gauge-north:4010 --with-access --dry-run
  zarnet define harbour.toml change tide-gauge-north --source head-office --limit 20
  zarnet define harbour.toml addresses head-office --add 198.51.100.7
  zarnet define harbour.toml policy --from internal --into external --drop 25/tcp --before 1"#;

pub const ADDRESSES: &str = r#"Examples:
  zarnet addresses harbour.toml --free"#;

pub const RULES: &str = r#"Examples:
  zarnet rules harbour.toml
  zarnet rules harbour.toml morning.csv --device harbour-edge"#;

pub const EXPOSURE: &str = r#"Examples:
  zarnet exposure harbour.toml
  zarnet exposure harbour.toml --from internal --format json"#;

pub const SHEET: &str = r#"Examples:
  zarnet sheet harbour.toml --format csv"#;

pub const EXPLAIN: &str = r#"Examples:
  zarnet explain ports-exhausted"#;

pub const COMPLETIONS: &str = r#"Examples:
  zarnet completions bash > zarnet.bash"#;

pub const IMPACT: &str = r#"Examples:
  zarnet impact harbour.toml changed.toml
  zarnet impact harbour.toml changed.toml --during morning.csv --at 2h45m"#;

pub const CAPACITY: &str = r#"Examples:
  zarnet capacity terminal.toml saturday.toml --growth 5%
  zarnet capacity terminal.toml saturday.toml --supply desk-lines --chart use.svg"#;

pub const COMPARE: &str = r#"Examples:
  zarnet compare harbour.toml morning.csv --at 2h45m --observed table.csv"#;

pub const EXPORT: &str = r#"Examples:
  zarnet export harbour.toml --device harbour-edge > edge.json
  zarnet export harbour.toml --device harbour-edge --with-policy > edge.json"#;

pub const IMPORT: &str = r#"Examples:
  zarnet import edge.json --into edge.toml
  zarnet import interfaces.json nat.json --device north-edge"#;

pub const RETRIEVE: &str = r#"Examples:
  zarnet retrieve https://localhost:8443 --access access.toml --into site"#;

pub const SEND: &str = r#"Examples:
  zarnet send site/edge.toml https://localhost:8443 --access access.toml
  zarnet send site/edge.toml https://localhost:8443 --access access.toml --yes

Exit codes: 0 nothing to send, or sent and kept; 1 something differs, or it did not stay."#;

pub const DRIFT: &str = r#"Examples:
  zarnet drift site/edge.toml https://localhost:8443 --access access.toml"#;

pub const WATCH: &str = r#"Examples:
  zarnet watch site/edge.toml https://localhost:8443 --access access.toml
  zarnet watch site/edge.toml https://localhost:8443 --access access.toml --once --format json"#;

pub const STAND_IN: &str = r#"Examples:
  zarnet stand-in harbour.toml --play morning.csv --speed 60 --access access.toml
  zarnet stand-in harbour.toml --play morning.csv --at 2h45m --speed 0 --access access.toml"#;

pub const LOG: &str = r#"Examples:
  zarnet log harbour.toml morning.csv --begins 2026-08-01T06:00:00Z --format ipfix > morning.ipfix
  zarnet log harbour.toml morning.csv --begins 2026-08-01T06:00:00Z --summary"#;

pub const RECORD: &str = r#"Examples:
  zarnet record log-store morning.ipfix more.syslog.gz
  zarnet record log-store --listen udp://127.0.0.1:4739 --listen tcp://127.0.0.1:6514 --retain 180d
  zarnet record log-store --check

Exit codes: 0 recorded, 1 a file of the store is damaged, 2 a log cannot be read."#;

pub const WHOSE: &str = r#"Examples:
  zarnet whose log-store 203.0.113.2:49201/tcp --at 2026-08-01T08:45:00Z
  zarnet whose log-store --host 10.61.16.13 --during 2026-08-01

Exit codes: 0 somebody had it, 1 nobody had it."#;
