//! `gonvel` with the built console inside.

use std::process::ExitCode;

#[derive(rust_embed::RustEmbed)]
#[folder = "../../console/dist"]
struct Console;

fn main() -> ExitCode {
    gonvel_app::run(|path| Console::get(path).map(|file| file.data))
}
