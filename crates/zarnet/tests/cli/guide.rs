//! The page of recipes: every plan that it shows is saved, every command that it shows is run, in
//! their order, and prints what stands there. `SNAPSHOTS=overwrite` writes what is printed.

use std::path::Path;

use super::{estate, zarnet};

/// The words of a command; those in quotes may hold spaces.
pub(super) fn words(command: &str) -> Vec<&str> {
    let parts = command.split('"').enumerate();
    let words = parts.flat_map(|(i, part)| match i % 2 {
        0 => part.split_whitespace().collect(),
        _ => vec![part],
    });
    words.collect()
}

/// The page with what its commands print now.
fn page(text: &str, folder: &Path) -> String {
    let (mut page, mut lines) = (String::new(), text.lines());
    while let Some(line) = lines.next() {
        page += line;
        page.push('\n');
        let body = || lines.clone().take_while(|l| *l != "```");
        if let Some(name) = line.strip_prefix("```toml ") {
            let plan: String = body().map(|l| format!("{l}\n")).collect();
            std::fs::write(folder.join(name), plan).unwrap();
        }
        if line != "```console" {
            continue;
        }
        let commands: Vec<&str> = body().filter(|l| l.starts_with("$ ")).collect();
        lines.by_ref().take_while(|l| *l != "```").for_each(drop);
        for command in commands {
            let arguments = words(command.strip_prefix("$ zarnet ").expect(command));
            // what goes into a file is not shown
            let (arguments, into) = match arguments[..] {
                [ref arguments @ .., ">", into] => (arguments.to_vec(), Some(into)),
                _ => (arguments, None),
            };
            let output = zarnet(folder, &[&arguments[..], &["--width", "120"]].concat(), "");
            let told = match into {
                Some(into) => {
                    std::fs::write(folder.join(into), output.stdout).unwrap();
                    String::new()
                }
                None => String::from_utf8(output.stdout).unwrap(),
            };
            let wrong = String::from_utf8(output.stderr).unwrap();
            assert!(output.status.code().is_some_and(|c| c < 2), "{command}: {wrong}");
            page += &format!("{command}\n{told}");
        }
        page += "```\n";
    }
    page
}

#[test]
fn the_guide_shows_what_the_program_prints() {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let path = root.join("docs/guide.md");
    let folder = estate();
    std::fs::create_dir(folder.path().join("faults")).unwrap();
    for file in std::fs::read_dir(root.join("demo/faults")).unwrap() {
        let file = file.unwrap();
        std::fs::copy(file.path(), folder.path().join("faults").join(file.file_name())).unwrap();
    }
    let text = std::fs::read_to_string(&path).unwrap();
    let now = page(&text, folder.path());
    if std::env::var("SNAPSHOTS").is_ok_and(|v| v == "overwrite") {
        std::fs::write(&path, &now).unwrap();
        return;
    }
    for (is, said) in now.lines().zip(text.lines()) {
        assert_eq!(is, said, "docs/guide.md");
    }
    assert_eq!(now.lines().count(), text.lines().count(), "docs/guide.md");
}
