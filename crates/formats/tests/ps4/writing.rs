//! What is written, held against the builder byte for byte.

use super::builder::{self, CONTENT_ID, Wish, ZEROS};
use super::{check_files, faults, open_with, ring, source};
use decanter_core::Keyring;
use decanter_core::pour::to_memory;
use decanter_core::tree::{File, Kind, Node, Tree};
use decanter_formats::package::ps4::pfs::compose::Form;
use decanter_formats::package::ps4::{Making, compose};

fn tree(wish: &Wish) -> Tree {
    let mut nodes: Vec<Node> = Vec::new();
    let files = wish.files.iter().map(|(path, bytes)| ((*path).to_owned(), bytes.clone()));
    let entries = wish.entries.iter().map(|(_, name, bytes, _)| (format!("sce_sys/{name}"), bytes.clone()));
    for (path, bytes) in files.chain(entries) {
        for (at, _) in path.match_indices('/') {
            if !nodes.iter().any(|n| n.path == path[..at]) {
                nodes.push(Node::new(path[..at].to_owned(), Kind::Folder, None));
            }
        }
        nodes.push(Node::new(path, Kind::File(File::of(source(bytes))), None));
    }
    Tree { nodes }
}

fn made(wish: &Wish, form: Form, keys: &Keyring) -> Vec<u8> {
    let making = Making { content_id: CONTENT_ID.into(), passcode: wish.passcode, form, keys };
    let blueprint = compose(&tree(wish), &making, &()).unwrap();
    to_memory(&blueprint, 1 << 30, &()).unwrap()
}

#[test]
fn a_package_has_the_bytes_that_its_layout_says() {
    let small = Wish::default();
    let mut middle = Wish { passcode: *b"saltmarsh-pier-arcade-museum-001", ..Wish::default() };
    middle.files.push(("long.bin", builder::noise(9, 30 * builder::BLOCK)));
    for wish in [small, middle] {
        let (found, wanted) = (made(&wish, Form::Stored, &Keyring::default()), builder::package(&wish).bytes);
        let differs = found.iter().zip(&wanted).position(|(a, b)| a != b);
        assert_eq!((found.len(), differs), (wanted.len(), None));
    }
}

/// More than 12 + 1820 blocks: tables of tables.
#[test]
fn a_long_image_has_the_bytes_that_its_layout_says_and_is_read() {
    let mut wish = Wish::default();
    wish.files.push(("huge.bin", builder::noise(3, 1830 * builder::BLOCK)));
    let (found, wanted) = (made(&wish, Form::Stored, &Keyring::default()), builder::package(&wish).bytes);
    assert!(found == wanted);
    let opened = open_with(wanted, &Keyring::default()).unwrap();
    check_files(&opened, &wish);
    assert_eq!(faults(&opened).0, Vec::<String>::new());
}

#[test]
fn a_deflated_image_comes_back_and_is_always_the_same() {
    let mut wish = Wish { passcode: ZEROS, ..Wish::default() };
    wish.files.push(("text.txt", b"tide table, ".repeat(100_000)));
    let keys = Keyring::default();
    let bytes = made(&wish, Form::Packed, &keys);
    assert!(bytes == made(&wish, Form::Packed, &keys));
    assert!(bytes.len() < made(&wish, Form::Stored, &keys).len());
    let opened = open_with(bytes, &keys).unwrap();
    check_files(&opened, &wish);
    assert_eq!(faults(&opened).0, Vec::<String>::new());
}

/// With the console's keys in the ring, what a console reads is under them, and opens a package without its passcode.
#[test]
fn keys_of_the_console_wrap_and_unwrap() {
    let passcode = *b"saltmarsh-pier-arcade-museum-001";
    let wish = Wish { passcode, ..Wish::default() };
    let mut keys = Keyring::default();
    for name in ["ps4.pkg.rsa.3", "ps4.pkg.rsa.image", "ps4.pkg.rsa.header"] {
        keys.append(&ring(name, &super::pair()));
    }
    let bytes = made(&wish, Form::Stored, &keys);
    assert_ne!(bytes[0x1000..0x1100], [0; 256], "the header is under its key");
    let opened = open_with(bytes.clone(), &keys).unwrap();
    check_files(&opened, &wish);
    let opened = open_with(bytes, &Keyring::default()).unwrap();
    assert!(opened.holds.tree.unwrap().find("Eboot.bin").is_none(), "not without them");
}
