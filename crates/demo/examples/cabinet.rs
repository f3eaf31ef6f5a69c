//! Packs files into an LZX cabinet, for measuring: `cabinet TARGET FILE...`.

use decanter_demo::cabinet::{Around, Folder, Lzx, Method, cabinets};

fn main() -> std::io::Result<()> {
    let mut words = std::env::args().skip(1);
    let target = words.next().unwrap_or_default();
    let read = |path: String| Ok((path.clone(), std::fs::read(path)?));
    let files = words.map(read).collect::<std::io::Result<Vec<(String, Vec<u8>)>>>()?;
    let files = files.iter().map(|(name, bytes)| (name.as_str(), bytes.as_slice())).collect();
    let method = Method::Lzx(Lzx { bits: 21, calls: true, is_mixed: false });
    let made = cabinets(&[Folder { method, files }], &Around::default());
    std::fs::write(target, made.concat())
}
