//! The examples of `examples/cluster`: a store queried by SQL on a cluster, and a fleet of edges predicted on it. They
//! run where Java and the engine are (`examples/cluster/install.sh`), and say loudly where they do not.

use std::path::Path;
use std::process::Command;

#[test]
fn a_cluster_answers_as_the_program_does() {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let program = Path::new(env!("CARGO_BIN_EXE_zarnet")).parent().unwrap();
    let path = std::env::var("PATH").unwrap_or_default();
    let output = Command::new("bash")
        .arg(root.join("examples/cluster/check.sh"))
        .env("PATH", format!("{}:{path}", program.display()))
        .output()
        .unwrap();
    let (told, wrong) =
        (String::from_utf8_lossy(&output.stdout), String::from_utf8_lossy(&output.stderr));
    match output.status.code() {
        Some(0) => assert_eq!(told.matches("same: ").count(), 9, "{told}"),
        Some(77) => eprintln!("\n*** {} ***\n", wrong.trim()),
        code => panic!("{code:?}\n{told}\n{wrong}"),
    }
}
