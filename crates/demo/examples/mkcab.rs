use decanter_demo::cabinet::*;
fn main() {
    let args: Vec<String> = std::env::args().collect();
    let method = match args[1].as_str() {
        "stored" => Method::Stored,
        "mszip" => Method::MsZip,
        m => {
            let b: u32 = m[..2].parse().unwrap();
            Method::Lzx(Lzx { bits: b, calls: m.contains('c'), is_mixed: m.contains('m') })
        }
    };
    let cut = args[2].parse::<usize>().ok();
    let out = &args[3];
    let files: Vec<(String, Vec<u8>)> = args[4..].iter().map(|f| (f.clone(), std::fs::read(f).unwrap())).collect();
    let f: Vec<(&str, &[u8])> = files.iter().map(|(n, b)| (n.as_str(), b.as_slice())).collect();
    let all = cabinets(
        &[Folder { method, files: f }],
        &Around { cut_after: cut, name: out.clone(), reserved: if cut.is_some() { Some((20, 4, 8)) } else { None } },
    );
    for (i, c) in all.iter().enumerate() {
        std::fs::write(format!("{out}{}.cab", i + 1), c).unwrap();
    }
}
