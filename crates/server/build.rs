//! The console's built files are embedded. Where it was not built (a check of the Rust code alone), a page that says so stands in.

use std::{fs, path::Path};

fn main() {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../console/dist");
    let page = folder.join("index.html");
    if !page.exists() {
        let text = "<!doctype html><title>Gonvel</title><p>The console was not built: run <code>make console</code>, then build again.";
        fs::create_dir_all(&folder).and_then(|()| fs::write(&page, text)).expect("console/dist can be written");
    }
    println!("cargo::rerun-if-changed={}", folder.display());
}
