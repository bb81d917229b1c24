//! The examples run to their end.

#[path = "../examples/why.rs"]
mod why;

#[test]
fn why_runs() {
    why::main().unwrap();
}
