//! The console is embedded. Where it has not been built yet, an empty folder lets the service compile; it then says so.
fn main() {
    let folder = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../console/dist");
    std::fs::create_dir_all(folder).expect("the console's folder can be made");
    println!("cargo::rerun-if-changed=../../console/dist");
}
