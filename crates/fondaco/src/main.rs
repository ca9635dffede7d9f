//! Fondaco, the program: see the library beside it.

use std::process::ExitCode;

fn main() -> ExitCode {
    fondaco_program::main()
}
