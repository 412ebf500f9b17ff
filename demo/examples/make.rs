//! Makes the demo household's pictures in a folder: `cargo run -p ypogeion-demo --example make FOLDER`.

fn main() -> std::io::Result<()> {
    let folder = std::env::args_os().nth(1).unwrap_or_else(|| "mill-house".into());
    ypogeion_demo::make(folder.as_ref(), 7, ypogeion_demo::Size::WHOLE, &|_, _| ())
}
