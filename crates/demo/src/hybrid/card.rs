//! A gamecard image put together from its layout.

use super::cipher::encrypt_blocks;
use super::keys;
use decanter_core::Result;
use decanter_formats::package::sha256;

fn hfs0(files: &[(&str, &[u8], usize)]) -> Vec<u8> {
    let mut names = Vec::new();
    let mut entries = Vec::new();
    let mut at = 0u64;
    for (name, content, hashed) in files {
        entries.extend(at.to_le_bytes());
        entries.extend((content.len() as u64).to_le_bytes());
        entries.extend((names.len() as u32).to_le_bytes());
        entries.extend((*hashed as u32).to_le_bytes());
        entries.extend([0; 8]);
        entries.extend(sha256(&content[..*hashed]));
        names.extend(name.as_bytes());
        names.push(0);
        at += content.len() as u64;
    }
    let len = (0x10 + entries.len() + names.len()).next_multiple_of(0x200);
    names.resize(len - 0x10 - entries.len(), 0);
    let mut out = b"HFS0".to_vec();
    out.extend((files.len() as u32).to_le_bytes());
    out.extend((names.len() as u32).to_le_bytes());
    out.extend([0; 4]);
    out.extend(entries);
    out.extend(names);
    out
}

/// A partition of these files.
fn partition(files: &[(String, Vec<u8>)]) -> (Vec<u8>, usize) {
    let all: Vec<(&str, &[u8], usize)> =
        files.iter().map(|(n, b)| (n.as_str(), b.as_slice(), b.len().min(0x200))).collect();
    let mut out = hfs0(&all);
    let head = out.len();
    files.iter().for_each(|(_, b)| out.extend(b));
    out.resize(out.len().next_multiple_of(0x200), 0);
    (out, head)
}

/// AES-128-CBC, block by block.
fn cbc(key: &[u8; 16], iv: [u8; 16], bytes: &[u8]) -> Vec<u8> {
    let mut last = iv;
    let mut out = Vec::new();
    for block in bytes.as_chunks::<16>().0 {
        let mixed: Vec<u8> = block.iter().zip(last).map(|(a, b)| a ^ b).collect();
        let done = encrypt_blocks(key, &mixed);
        last.copy_from_slice(&done);
        out.extend(done);
    }
    out
}

/// An image with these files of the game and of a system update.
pub(crate) fn build(secure: &[(String, Vec<u8>)], update: &[(String, Vec<u8>)]) -> Result<Vec<u8>> {
    let parts = [("update", partition(update)), ("normal", partition(&[])), ("secure", partition(secure))];
    let all: Vec<(&str, &[u8], usize)> =
        parts.iter().map(|(name, (bytes, head))| (*name, bytes.as_slice(), *head)).collect();
    let root = hfs0(&all);
    let before: usize = parts[..2].iter().map(|(_, (bytes, _))| bytes.len()).sum();
    let secure_at = 0xf000 + root.len() + before;
    let end = secure_at + parts[2].1.0.len();
    let mut head = vec![0xff; 0x100];
    head.extend(b"HEAD");
    head.extend(((secure_at / 0x200) as u32).to_le_bytes());
    head.extend([0xff; 4]);
    head.extend([0, 0xfa, 0, 0]);
    head.extend([0x11; 8]);
    head.extend(((end / 0x200 - 1) as u32).to_le_bytes());
    head.extend([0; 4]);
    let iv: [u8; 16] = std::array::from_fn(|i| i as u8 + 1);
    head.extend(iv);
    head.extend(0xf000u64.to_le_bytes());
    head.extend((root.len() as u64).to_le_bytes());
    head.extend(sha256(&root));
    head.extend([0; 32]);
    for word in [1u32, 2, 0, (secure_at / 0x200) as u32] {
        head.extend(word.to_le_bytes());
    }
    let mut info = 1u64.to_le_bytes().to_vec();
    info.extend(0x00a1_0011_u32.to_le_bytes());
    info.resize(0x20, 0);
    // The system update on the card: 5.0.2.
    info.extend((5u32 << 26 | 2 << 16).to_le_bytes());
    info.resize(0x70, 0);
    let mut back = iv;
    back.reverse();
    head.extend(cbc(&keys::card(), back, &info));
    head.resize(0xf000, 0xff);
    head.extend(root);
    parts.iter().for_each(|(_, (bytes, _))| head.extend(bytes));
    Ok(head)
}
