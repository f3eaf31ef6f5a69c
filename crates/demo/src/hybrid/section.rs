//! Sections of contents in the clear: hashes, files, and what a header says of them; each put together from its layout.

use decanter_formats::package::sha256;

/// Bytes of a block of a RomFS that is hashed.
const DEEP_BLOCK: usize = 0x4000;
/// Bytes of a node of a table.
const NODE: usize = 0x4000;

/// A section in the clear, with its header but for the counter.
pub(crate) struct Section {
    pub(crate) bytes: Vec<u8>,
    /// 0x200 bytes.
    pub(crate) head: Vec<u8>,
    /// Counters of an update's stretches: from where on, which generation; none for others.
    pub(crate) counters: Vec<(u64, u32)>,
}

fn head(kind: u8, hash: u8, cipher: u8, hash_data: &[u8]) -> Vec<u8> {
    let mut head = vec![2, 0, kind, hash, cipher, 0, 0, 0];
    head.extend(hash_data);
    head.resize(0x200, 0);
    head
}

fn pad(bytes: &mut Vec<u8>, to: usize) {
    bytes.resize(bytes.len().next_multiple_of(to), 0);
}

/// A PFS0 of these files.
pub(crate) fn pfs0(files: &[(String, Vec<u8>)], align: usize) -> Vec<u8> {
    let mut names = Vec::new();
    let mut out = b"PFS0".to_vec();
    let mut entries = Vec::new();
    let mut at = 0u64;
    for (name, content) in files {
        entries.extend(at.to_le_bytes());
        entries.extend((content.len() as u64).to_le_bytes());
        entries.extend((names.len() as u32).to_le_bytes());
        entries.extend([0; 4]);
        names.extend(name.as_bytes());
        names.push(0);
        at += content.len() as u64;
    }
    let len = (0x10 + entries.len() + names.len()).next_multiple_of(align);
    names.resize(len - 0x10 - entries.len(), 0);
    out.extend((files.len() as u32).to_le_bytes());
    out.extend((names.len() as u32).to_le_bytes());
    out.extend([0; 4]);
    out.extend(entries);
    out.extend(names);
    files.iter().for_each(|(_, content)| out.extend(content));
    out
}

/// A section of files: one level of hashes before them.
pub(crate) fn files(files: &[(String, Vec<u8>)], block: usize, cipher: u8) -> Section {
    let data = pfs0(files, 0x10);
    let hashes: Vec<u8> = data.chunks(block).flat_map(sha256).collect();
    let data_at = hashes.len().next_multiple_of(0x200);
    let mut hash_data = sha256(&hashes).to_vec();
    hash_data.extend((block as u32).to_le_bytes());
    hash_data.extend(2u32.to_le_bytes());
    for word in [0, hashes.len() as u64, data_at as u64, data.len() as u64] {
        hash_data.extend(word.to_le_bytes());
    }
    hash_data.resize(0xf8, 0);
    let mut bytes = hashes;
    bytes.resize(data_at, 0);
    bytes.extend(data);
    pad(&mut bytes, 0x200);
    Section { bytes, head: head(1, 2, cipher, &hash_data), counters: Vec::new() }
}

/// A section with a RomFS: five levels of hashes before it.
pub(crate) fn rom(romfs: &[u8], cipher: u8) -> Section {
    let mut levels = vec![romfs.to_vec()];
    for _ in 0..5 {
        let hashes = levels[0]
            .chunks(DEEP_BLOCK)
            .flat_map(|block| {
                let mut block = block.to_vec();
                block.resize(DEEP_BLOCK, 0);
                sha256(&block)
            })
            .collect();
        levels.insert(0, hashes);
    }
    let mut first = levels[0].clone();
    first.resize(DEEP_BLOCK, 0);
    let mut hash_data = b"IVFC".to_vec();
    for word in [0x2_0000u32, 0x20, 7] {
        hash_data.extend(word.to_le_bytes());
    }
    let mut bytes = Vec::new();
    for level in &levels {
        hash_data.extend((bytes.len() as u64).to_le_bytes());
        hash_data.extend((level.len() as u64).to_le_bytes());
        hash_data.extend(14u32.to_le_bytes());
        hash_data.extend([0; 4]);
        bytes.extend(level);
        pad(&mut bytes, DEEP_BLOCK);
    }
    hash_data.extend([0; 0x20]);
    hash_data.extend(sha256(&first));
    hash_data.resize(0xf8, 0);
    Section { bytes, head: head(0, 3, cipher, &hash_data), counters: Vec::new() }
}

/// A node with the beginnings of all buckets, then the buckets.
fn table(entries: &[Vec<u8>], keys: &[u64], end: u64) -> Vec<u8> {
    let per = (NODE - 0x10) / entries[0].len();
    let buckets: Vec<&[Vec<u8>]> = entries.chunks(per).collect();
    let mut out = Vec::new();
    out.extend(0u32.to_le_bytes());
    out.extend((buckets.len() as u32).to_le_bytes());
    out.extend(end.to_le_bytes());
    keys.iter().step_by(per).for_each(|key| out.extend(key.to_le_bytes()));
    out.resize(NODE, 0);
    for (index, bucket) in buckets.iter().enumerate() {
        out.extend((index as u32).to_le_bytes());
        out.extend((bucket.len() as u32).to_le_bytes());
        out.extend(keys.get((index + 1) * per).copied().unwrap_or(end).to_le_bytes());
        bucket.iter().for_each(|entry| out.extend(entry));
        pad(&mut out, NODE);
    }
    out
}

/// The section `new` as an update of the section `base`: blocks that are the same stay in the base.
pub(crate) fn update(base: &Section, new: &Section) -> Section {
    let (mut bytes, mut entries, mut keys): (Vec<u8>, Vec<Vec<u8>>, Vec<u64>) = (Vec::new(), Vec::new(), Vec::new());
    let mut last = None;
    for (index, block) in new.bytes.chunks(DEEP_BLOCK).enumerate() {
        let at = index * DEEP_BLOCK;
        let same = base.bytes.get(at..at + block.len()) == Some(block);
        if last != Some(same) {
            let physical = if same { at } else { bytes.len() } as u64;
            let mut entry = (at as u64).to_le_bytes().to_vec();
            entry.extend(physical.to_le_bytes());
            entry.extend(u32::from(!same).to_le_bytes());
            entries.push(entry);
            keys.push(at as u64);
            last = Some(same);
        }
        if !same {
            bytes.extend(block);
        }
    }
    let moved_at = bytes.len() as u64;
    let moved = table(&entries, &keys, new.bytes.len() as u64);
    // Two stretches, written at two times.
    let half = moved_at / 2 / 0x200 * 0x200;
    let counters: Vec<(u64, u32)> = if half > 0 { vec![(0, 1), (half, 2)] } else { vec![(0, 1)] };
    let counter = |(at, generation): &(u64, u32)| {
        let mut entry = at.to_le_bytes().to_vec();
        entry.extend([0; 4]);
        entry.extend(generation.to_le_bytes());
        entry
    };
    let rows: Vec<Vec<u8>> = counters.iter().map(counter).collect();
    let counter_keys: Vec<u64> = counters.iter().map(|(at, _)| *at).collect();
    let counted = table(&rows, &counter_keys, moved_at);
    let mut head = new.head.clone();
    head[4] = 4;
    let mut patch = Vec::new();
    for (at, len, count) in
        [(moved_at, moved.len(), entries.len()), (moved_at + moved.len() as u64, counted.len(), rows.len())]
    {
        patch.extend(at.to_le_bytes());
        patch.extend((len as u64).to_le_bytes());
        patch.extend(b"BKTR");
        patch.extend(1u32.to_le_bytes());
        patch.extend((count as u32).to_le_bytes());
        patch.extend([0; 4]);
    }
    head[0x100..0x140].copy_from_slice(&patch);
    bytes.extend(moved);
    bytes.extend(counted);
    Section { bytes, head, counters }
}
