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

/// An Xbox program with one section, which has this name and these bytes.
fn program(name: &[u8], section: &[u8]) -> Vec<u8> {
    let mut xbe = vec![0; 0x1000];
    let mut put = |at: usize, bytes: &[u8]| xbe[at..at + bytes.len()].copy_from_slice(bytes);
    put(0, b"XBEH");
    let words = [(0x104, 0x1_0000), (0x118, 0x1_0178), (0x11c, 1), (0x120, 0x1_0350), (0x180, 0x4443_002a)];
    words.into_iter().for_each(|(at, word): (usize, u32)| put(at, &word.to_le_bytes()));
    "Berth Six".bytes().enumerate().for_each(|(number, letter)| put(0x184 + number * 2, &[letter]));
    let place = [(0x35c, 0x1000), (0x360, section.len() as u32), (0x364, 0x1_0390)];
    place.into_iter().for_each(|(at, word): (usize, u32)| put(at, &word.to_le_bytes()));
    put(0x390, name);
    [&xbe, section].concat()
}

#[test]
fn a_picture_in_an_xbox_program_is_drawn() {
    let folder = folder();
    // Eight by four pixels in two packed blocks: all red, and all blue. The words say: one texture, of blocks, 2^3 by 2^2 pixels.
    let words = [0x810u32, 0x800, 0x0004_0001, 0, 0, 0x0231_0c29, 0, u32::MAX];
    let mut picture = [b"XPR0".to_vec(), words.iter().flat_map(|word| word.to_le_bytes()).collect()].concat();
    picture.resize(0x800, 0);
    picture.extend([0x00, 0xf8, 0, 0, 0, 0, 0, 0, 0x1f, 0, 0, 0, 0, 0, 0, 0]);
    let put = |name: &str, bytes: &[u8]| fs::write(folder.path().join(name), bytes).unwrap();
    put("berth.xbe", &program(b"$$XTIMAGE\0", &picture));
    run(folder.path(), &["label", "berth.xbe", "--suggest", "-o", "pictures"]).expect(0).says("8 by 4 pixels");
    let files = tree(&folder.path().join("pictures"));
    let (width, height, pixels) = image(&files[0].1);
    let line = [[255, 0, 0, 255].repeat(4), [0, 0, 255, 255].repeat(4)].concat();
    assert_eq!((width, height, pixels), (8, 4, line.repeat(4)));
    // Another section is none; one that is cut short is told, and all else of the program is as good as before.
    put("other.xbe", &program(b"$$XTIMAGES\0", &picture));
    run(folder.path(), &["label", "other.xbe", "--suggest"]).expect(2).says("without pictures");
    put("cut.xbe", &program(b"$$XTIMAGE\0", &picture[..0x808]));
    let told = run(folder.path(), &["identify", "cut.xbe"]).expect(0);
    let told = told.says("Berth Six");
    assert!(format!("{}{}", told.out, told.err).contains("its pixels are cut short"), "{}{}", told.out, told.err);
    // That of a disc is the picture of the program that it starts.
    run(folder.path(), &["label", text(&demo().full_disc), "--suggest"]).expect(0).says("128 by 128 pixels");
}
