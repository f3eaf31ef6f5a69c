//! Packages of the fourth generation, held against a builder that was written apart from the code that is tested.

mod builder;
mod damage;
mod reading;
mod writing;

use builder::{Built, Wish};
use decanter_core::format::Opener;
use decanter_core::opened::Opened;
use decanter_core::source::{Bytes, SourceRef};
use decanter_core::{Key, Keyring, Result};
use decanter_formats::REGISTRY;
use std::sync::Arc;

fn source(bytes: Vec<u8>) -> SourceRef {
    Arc::new(Bytes(bytes))
}

fn open_with(bytes: Vec<u8>, keys: &Keyring) -> Result<Opened> {
    Opener::new(&REGISTRY, keys).open(source(bytes))
}

fn open(bytes: Vec<u8>) -> Result<Opened> {
    open_with(bytes, &Keyring::default())
}

fn ring(name: &str, key: &[u8]) -> Keyring {
    let mut keys = Keyring::default();
    keys.add(name, Key::new(key.to_vec()), "museum.keys");
    keys
}

fn read(opened: &Opened, path: &str) -> Result<Vec<u8>> {
    let node = opened.holds.tree.as_ref().unwrap().find(path).unwrap_or_else(|| panic!("{path} is not there"));
    let source = node.file().unwrap().source()?.clone();
    let mut bytes = vec![0; source.len() as usize];
    source.read_at(0, &mut bytes)?;
    Ok(bytes)
}

/// Everything that does not hold, in words; and how much was looked at.
fn faults(opened: &Opened) -> (Vec<String>, usize) {
    let proof = &opened.proof;
    let mut all = proof.settled.clone();
    for inspect in proof.inspections.iter().chain(&proof.on_reading) {
        all.extend(inspect(&()).unwrap());
    }
    let count = all.len();
    let told = all.into_iter().filter(|s| !s.holds).map(|s| format!("{}: {}", s.name, s.note.unwrap_or_default()));
    let noticed = opened.told.notices.iter().filter(|n| n.is_damage).map(|n| n.text.clone());
    (told.chain(noticed).collect(), count)
}

/// Every file has the bytes that it was built with.
fn check_files(opened: &Opened, wish: &Wish) {
    for (path, bytes) in &wish.files {
        assert!(read(opened, path).unwrap() == *bytes, "{path}");
    }
    for (_, name, bytes, _) in &wish.entries {
        assert!(read(opened, &format!("sce_sys/{name}")).unwrap() == *bytes, "{name}");
    }
}

/// A package with a file of more blocks than the pointers in an inode, and than those of one table.
fn long(wish: Wish) -> (Wish, Built) {
    let mut wish = wish;
    wish.files.push(("long.bin", builder::noise(7, 40 * builder::BLOCK + 17)));
    let built = builder::package(&wish);
    (wish, built)
}

/// A key of 2,048 bits that was made for tests: modulus and private exponent.
fn pair() -> Vec<u8> {
    let digits = concat!(
        "ac6b8a0f0079a3ac1ffd98e551e3614ba61a375e5e34b92a735bfd7e69ff0bae4f39f1084693497df2b9259d0658546ad5726d6dbe19f2baab324ad767e8d2c76eb5a1f3752d57fed17af5c4ea77208a3f7e4cfb61574e92f1b556cc193928417bdad054e5c757703ce763031850a6d779357372d366a6ea703f1b52c58a067fe5207a4f02756d23fc71a74dd9264960ae2622ec7dbcf755f607be3caab75018b1c009070fc6ede14d068c37cb8894b7eab52347d8f96f972687f06ffbb97cf37c0907187bcddcbd84d7f96f23920ccedc67f45be0d5c5c2ba12fd918fa84b349a8ea36569c8f7ac70094daab9e126a25c31c98c2b9cecf0588ab6aead2141df",
        "305903608b88905daea6c4dde0e57a9de4d8cb17da20bc9f6bb3aad46cd288aafb2a4b2d3fe503219f134db9c752b37135a31d8e3d55375c22af3a8f4662e1dfec6a601c4d8a46777cb417007da2a3ec403ba14888161c415627bc4c04f2a31821abcce95179614a66b9976901c373d54df6b005cdc3a6206d13350d33b92d72ef6ffea8ee7245afa63ed7d01ebfe0ad221847ee2a8b46a1ec8b5cc3b4ac826898b6106d82a08b254199dc76b16855e98fb5521449e4d55b212b81c289ef47819a52a449cc4b467766a1f9889c792e9cbbde0d329b0290eddd374eb43f557d110391ffdec581529b2f42f6af50b4f03915d81e7b19c13a1683cbf4dedeceaaf1",
    );
    Key::from_hex(digits).unwrap().bytes().to_vec()
}
