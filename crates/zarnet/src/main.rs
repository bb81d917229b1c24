//! The program `zarnet`.

use std::process::ExitCode;

fn main() -> ExitCode {
    zarnet::run()
}
