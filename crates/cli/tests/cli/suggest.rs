//! Pictures that a source has in it: found, written, and told when there are none.

use crate::support::{demo, folder, noise, run, text, tree};
use std::fs;

#[test]
fn pictures_of_a_disc_are_written_as_they_are() {
    let folder = folder();
    let moth = text(&demo().handheld);
    run(folder.path(), &["label", moth, "--suggest"])
        .expect(0)
        .says("PSP_GAME/ICON0.PNG")
        .says("--suggest -o pictures/");
    run(folder.path(), &["label", moth, "--suggest", "-o", "pictures"]).expect(0);
    let files = tree(&folder.path().join("pictures"));
    let names: Vec<&str> = files.iter().map(|(name, _)| name.as_str()).collect();
    assert_eq!(names, ["Moth Parade 1 background.png", "Moth Parade 2 icon.png"]);
    run(folder.path(), &["extract", moth, "-o", "out"]).expect(0);
    let own = image(&fs::read(folder.path().join("out/PSP_GAME/ICON0.PNG")).unwrap());
    assert_eq!(image(&files[1].1), own, "the same pixels");
    run(folder.path(), &["label", moth, "--suggest", "-o", "pictures"]).expect(2).says("already exists");
    let json = run(folder.path(), &["label", moth, "--suggest", "--json"]).expect(0).json();
    assert_eq!(json["pictures"][1]["what"], "icon");
}

/// Width, height and pixels of a PNG.
fn image(bytes: &[u8]) -> (u32, u32, Vec<u8>) {
    let mut decoder = png::Decoder::new(std::io::Cursor::new(bytes));
    decoder.set_transformations(
        png::Transformations::ALPHA | png::Transformations::STRIP_16 | png::Transformations::EXPAND,
    );
    let mut reader = decoder.read_info().unwrap();
    let mut pixels = vec![0; reader.output_buffer_size().unwrap()];
    let info = reader.next_frame(&mut pixels).unwrap();
    pixels.truncate(info.buffer_size());
    (info.width, info.height, pixels)
}

#[test]
fn graphics_of_a_rom_are_drawn_where_it_plainly_holds_some() {
    let folder = folder();
    // A NES ROM whose program is noise, and whose character ROM has blocks of four by four pixels.
    let mut rom = b"NES\x1a\x02\x01\0\0\0\0\0\0\0\0\0\0".to_vec();
    rom.extend(noise(32 << 10, 4));
    for square in 0..512 {
        rom.extend((0..16).map(|at| if (at / 4 + square) % 2 == 0 { 0xf0 } else { 0x0f }));
    }
    fs::write(folder.path().join("Tide.nes"), &rom).unwrap();
    let told = run(folder.path(), &["label", "Tide.nes", "--suggest", "-o", "pictures"]).expect(0);
    told.says("squares of 8 by 8 pixels in four shades, from 0x8000");
    let (width, height, _) = image(&fs::read(folder.path().join("pictures/Tide graphics.png")).unwrap());
    assert!(width >= 600 && height >= 300);
    fs::write(folder.path().join("Noise.nes"), [&rom[..16], &noise(40 << 10, 5)].concat()).unwrap();
    run(folder.path(), &["label", "Noise.nes", "--suggest"]).expect(2).says("its graphics may be packed");
    run(folder.path(), &["label", text(&demo().plain), "--suggest"]).expect(2).says("without pictures");
}
