//! Devices over the network: the program against stand-ins, its own and real ones in a process of
//! their own.

use std::net::SocketAddr;
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::sync::Arc;
use std::time::Duration;

use zarnet_core::plan::DeviceId;
use zarnet_formats::data_model::canonical;
use zarnet_formats::files::Reach;
use zarnet_formats::ietf_nat::ModuleForm;
use zarnet_formats::plan::load;
use zarnet_formats::traffic::{Given, Reading, Traffic};
use zarnet_live::client::{Access, Credentials, Device, Limits};
use zarnet_live::stand_in::{Misbehave, Pace, Playing, Saving, Setup, StandIn};

use super::guide::words;
use super::{estate, snapshot_of, text, zarnet};

/// What stands for the address of the stand-in where it is shown.
const URL: &str = "https://localhost:8443";

/// A stand-in for the edge of the demo, at a quarter to nine, whose time stands still.
fn stand_in(folder: &Path, form: ModuleForm) -> StandIn {
    let path = folder.join("harbour.toml");
    let loaded = load(&path, Reach::below_folder_of(&path)).unwrap();
    let given = Given::all(&[folder.join("morning.csv").display().to_string()]).unwrap();
    let traffic = Traffic::open(&given, &loaded, Reading::default()).unwrap();
    let setup = Setup {
        at: traffic.time("2h45m").unwrap(),
        plan: Arc::new(loaded.plan),
        playing: Some(Playing(traffic)),
        pace: Pace::Steps,
        begins: "2026-08-01T06:00:00Z".parse().unwrap(),
        form,
        saving: if form == ModuleForm::WithPolicy { Saving::Explicit } else { Saving::WithEdit },
        seed: 0,
        log: None,
    };
    let address = SocketAddr::from(([127, 0, 0, 1], 0));
    let stand_in = StandIn::start(setup, address, Misbehave::default()).unwrap();
    let device = &stand_in.devices[0];
    let access = format!(
        "url = \"{}\"\npin = \"{}\"\ntoken = \"{}\"\n",
        device.url(),
        device.fingerprint,
        device.token
    );
    write_secret(&folder.join("access.toml"), &access);
    stand_in
}

fn write_secret(path: &Path, text: &str) {
    std::fs::write(path, text).unwrap();
    #[cfg(unix)]
    {
        use std::os::unix::fs::PermissionsExt;
        std::fs::set_permissions(path, std::fs::Permissions::from_mode(0o600)).unwrap();
    }
}

/// A rule that somebody enters on the device itself.
fn by_hand(stand_in: &StandIn) {
    let (mut running, _) = stand_in.configuration(DeviceId(0)).unwrap();
    let table = "/ietf-nat:nat/instances/instance/1/mapping-table/mapping-entry";
    let entries = running.pointer_mut(table).unwrap().as_array_mut().unwrap();
    entries.push(serde_json::json!({
        "index": 99, "type": "static", "transport-protocol": 6,
        "internal-src-address": "10.61.8.42/32",
        "internal-src-port": { "start-port-number": 4010 },
        "external-src-address": "203.0.113.2/32",
        "external-src-port": { "start-port-number": 24999 },
    }));
    stand_in.configure(DeviceId(0), running).unwrap();
}

/// An answer without what is another in each run: the port, the run in a version.
fn settled(told: &str, url: &str) -> String {
    let told = told.replace(url, URL);
    let lines = told.lines().map(|line| match line.split_once("version \"") {
        Some((before, version)) => {
            let behind = version.split_once('-').map_or("", |v| v.1);
            format!("{before}version \"5a1743e0-{behind}")
        }
        None => line.to_owned(),
    });
    lines.map(|l| l + "\n").collect()
}

/// The page of the change night: every command that it shows is run against a stand-in and prints
/// what stands there. `SNAPSHOTS=overwrite` writes what is printed.
#[test]
fn the_change_night_shows_what_the_program_prints() {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/change-night.md");
    let folder = estate();
    let stand_in = stand_in(folder.path(), ModuleForm::WithPolicy);
    let url = stand_in.devices[0].url();
    let page = std::fs::read_to_string(&path).unwrap();
    let (mut now, mut lines) = (String::new(), page.lines());
    while let Some(line) = lines.next() {
        now += &format!("{line}\n");
        if let Some(name) = line.strip_prefix("```toml >> ") {
            let more: String =
                lines.clone().take_while(|l| *l != "```").map(|l| format!("{l}\n")).collect();
            let path = folder.path().join(name);
            std::fs::write(&path, std::fs::read_to_string(&path).unwrap() + &more).unwrap();
        }
        if !line.starts_with("```console") {
            continue;
        }
        if line.ends_with("by hand") {
            by_hand(&stand_in);
        }
        let body: Vec<&str> = lines.by_ref().take_while(|l| *l != "```").collect();
        for command in body.iter().filter(|l| l.starts_with("$ ")) {
            let typed = command.strip_prefix("$ zarnet ").unwrap().replace(URL, &url);
            let output =
                zarnet(folder.path(), &[&words(&typed)[..], &["--width", "120"]].concat(), "");
            let wrong = String::from_utf8_lossy(&output.stderr).into_owned();
            assert!(output.status.code().is_some_and(|c| c < 2), "{command}: {wrong}");
            now +=
                &format!("{command}\n{}", settled(&String::from_utf8_lossy(&output.stdout), &url));
        }
        now += "```\n";
    }
    if std::env::var("SNAPSHOTS").is_ok_and(|v| v == "overwrite") {
        std::fs::write(&path, &now).unwrap();
        return;
    }
    for (is, said) in now.lines().zip(page.lines()) {
        assert_eq!(is, said, "docs/change-night.md");
    }
    assert_eq!(now.lines().count(), page.lines().count());
}

/// The walk through the demo, but for the port of its stand-in, which is another each time.
#[test]
fn the_demo_walks_through_the_whole_job() {
    let folder = tempfile::tempdir().unwrap();
    let told = text(&zarnet(folder.path(), &["demo"], ""));
    let port = told.split_once("https://localhost:").unwrap().1;
    let port: String = port.chars().take_while(char::is_ascii_digit).collect();
    snapshot_of("demo.txt", settled(&told, &format!("https://localhost:{port}")));
}

/// A device that knows the standard alone: what it cannot hold is named, and nothing is written.
#[test]
fn what_a_device_cannot_hold_is_not_sent() {
    let folder = estate();
    let stand_in = stand_in(folder.path(), ModuleForm::Standard);
    let url = stand_in.devices[0].url();
    let before = stand_in.configuration(DeviceId(0));
    // the plan as it is stands on the device already, as far as that holds it
    let plan = std::fs::read_to_string(folder.path().join("harbour.toml")).unwrap();
    let plan = plan.replace("24012/tcp", "24013/tcp");
    std::fs::write(folder.path().join("harbour.toml"), plan).unwrap();
    let send =
        ["send", "harbour.toml", &url, "--device", "harbour-edge", "--access", "access.toml"];
    let told = zarnet(folder.path(), &[&send[..], &["--yes", "--format", "json"]].concat(), "");
    let answer: serde_json::Value = serde_json::from_slice(&told.stdout).unwrap();
    assert_eq!((told.status.code(), answer["state"].as_str()), (Some(1), Some("refused")));
    let names: Vec<&str> =
        answer["losses"].as_array().unwrap().iter().map(|l| l["name"].as_str().unwrap()).collect();
    assert!(names.contains(&"rule-scope") && names.contains(&"policy"), "{names:?}");
    assert_eq!(stand_in.configuration(DeviceId(0)), before);
}

/// A stand-in in a process of its own.
struct Standing(Child);

impl Drop for Standing {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

fn standing(folder: &Path, arguments: &[&str]) -> (Standing, String) {
    let child = Command::new(env!("CARGO_BIN_EXE_zarnet"))
        .args(["stand-in", "harbour.toml", "--listen", "127.0.0.1:0", "--device", "harbour-edge"])
        .args(["--access", "edge-access.toml", "--force"])
        .args(arguments)
        .current_dir(folder)
        .env_clear()
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    let standing = Standing(child);
    let path = folder.join("edge-access.toml");
    for _ in 0..600 {
        if let Ok(text) = std::fs::read_to_string(&path)
            && let Some(url) = text.lines().find_map(|l| l.strip_prefix("url = "))
        {
            return (standing, url.trim_matches('"').to_owned());
        }
        std::thread::sleep(Duration::from_millis(50));
    }
    panic!("the stand-in says nothing");
}

/// The stand-in runs as a program, its secrets are its owner's, and a device that is killed is
/// told as one that is not there.
#[test]
#[cfg(unix)]
fn a_stand_in_runs_until_it_is_killed() {
    use std::os::unix::fs::MetadataExt;
    let folder = estate();
    let (mut standing, url) = standing(folder.path(), &["--play", "morning.csv", "--speed", "60"]);
    let access = folder.path().join("edge-access.toml");
    assert_eq!(access.metadata().unwrap().mode() & 0o777, 0o600);
    let ask = |arguments: &[&str]| {
        let more = [&url, "--access", "edge-access.toml", "--wait", "2s"];
        zarnet(folder.path(), &[arguments, &more].concat(), "")
    };
    let told = ask(&["retrieve", "--into", "site"]);
    assert_eq!(told.status.code(), Some(0), "{}", text(&told));
    let told = ask(&["drift", "site/edge.toml"]);
    assert_eq!(told.status.code(), Some(0), "{}", text(&told));
    standing.0.kill().unwrap();
    standing.0.wait().unwrap();
    let told = ask(&["drift", "site/edge.toml"]);
    assert_eq!(told.status.code(), Some(2));
    assert!(text(&told).contains("device-unreachable"), "{}", text(&told));
}

/// Certificates, tokens and access files that are wrong are told as such, and no secret is.
#[test]
#[cfg(unix)]
fn whom_nobody_knows_is_not_believed() {
    let folder = estate();
    let stand_in = stand_in(folder.path(), ModuleForm::WithPolicy);
    let (url, token) = (stand_in.devices[0].url(), stand_in.devices[0].token.clone());
    let told = |access: &str, more: &[&str]| {
        write_secret(&folder.path().join("a.toml"), access);
        let drift = ["drift", "harbour.toml", "--device", "jetty-box", &url, "--access", "a.toml"];
        let told = text(&zarnet(folder.path(), &[&drift[..], more].concat(), ""));
        assert!(!told.contains(&token), "{told}");
        told
    };
    let unknown = told(&format!("token = \"{token}\"\n"), &[]);
    assert!(
        unknown.starts_with("exit 2") && unknown.contains("certificate-not-believed"),
        "{unknown}"
    );
    assert!(unknown.contains(&stand_in.devices[0].fingerprint.to_string()), "{unknown}");
    // learned once, it is known from then on
    let learned = told(&format!("token = \"{token}\"\n"), &["--learn-pin"]);
    assert!(learned.starts_with("exit 1"), "{learned}");
    let file = std::fs::read_to_string(folder.path().join("a.toml")).unwrap();
    assert!(file.contains(&stand_in.devices[0].fingerprint.to_string()), "{file}");
    let again = told(&file, &[]);
    assert!(again.starts_with("exit 1"), "{again}");
    let pin = stand_in.devices[0].fingerprint;
    let stranger = told(&format!("pin = \"{pin}\"\ntoken = \"guess\"\n"), &[]);
    assert!(stranger.contains("access-refused"), "{stranger}");
    std::fs::write(folder.path().join("open.toml"), "token = \"x\"\n").unwrap();
    let open = ["drift", "harbour.toml", "--device", "jetty-box", &url, "--access", "open.toml"];
    let told = text(&zarnet(folder.path(), &open, ""));
    assert!(told.starts_with("exit 2") && told.contains("chmod 600"), "{told}");
}

/// What there is no terminal for is not drawn.
#[test]
fn watching_needs_a_terminal_or_is_done_once() {
    let folder = estate();
    let stand_in = stand_in(folder.path(), ModuleForm::WithPolicy);
    let url = stand_in.devices[0].url();
    let watch =
        ["watch", "harbour.toml", "--device", "harbour-edge", &url, "--access", "access.toml"];
    let told = zarnet(folder.path(), &watch, "");
    assert!(text(&told).contains("not-a-terminal"));
    let during = ["--once", "--during", "morning.csv", "--at", "2h45m", "--format", "json"];
    let told = zarnet(folder.path(), &[&watch[..], &during].concat(), "");
    let answer: serde_json::Value = serde_json::from_slice(&told.stdout).unwrap();
    assert_eq!(
        (&answer["unpredicted"], answer["missing"].as_array().map(Vec::len)),
        (&0.into(), Some(0))
    );
    assert_eq!(answer["usage"][0]["name"], "pool office-lines");
    assert_eq!(answer["usage"][0]["used"], 4);
}

/// The documents that validators by others have judged are those that are written (`.ci/judges`).
#[test]
fn what_was_judged_is_what_is_written() {
    let folder = estate();
    let judged = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../judged/documents");
    let same = |name: &str, now: &str| {
        let path = judged.join(name);
        if std::env::var("SNAPSHOTS").is_ok_and(|v| v == "overwrite") {
            std::fs::write(&path, now).unwrap();
        }
        assert!(std::fs::read_to_string(&path).unwrap() == now, "{name}");
    };
    for (plan, device) in [
        ("harbour", "harbour-edge"),
        ("harbour", "jetty-edge"),
        ("harbour", "jetty-box"),
        ("terminal", "terminal-edge"),
        ("ferry-office", "ferry-edge"),
    ] {
        let plan = format!("{plan}.toml");
        let export = ["export", &plan, "--device", device, "-q"];
        for (form, more) in [("standard", &[][..]), ("policy", &["--with-policy"][..])] {
            let told = zarnet(folder.path(), &[&export[..], more].concat(), "");
            same(&format!("{device}.{form}.json"), &String::from_utf8(told.stdout).unwrap());
        }
    }
    for (form, name) in [(ModuleForm::WithPolicy, "policy"), (ModuleForm::Standard, "standard")] {
        let stand_in = stand_in(folder.path(), form);
        let listening = &stand_in.devices[0];
        let access = Access {
            pin: Some(listening.fingerprint),
            credentials: Credentials::Token(listening.token.clone()),
            ..Access::anonymous(&listening.url())
        };
        let mut device = Device::open(&access, Limits::default(), false).unwrap();
        let whole = device.whole().unwrap();
        same(&format!("harbour-edge.state.{name}.json"), &canonical(&whole));
    }
}
