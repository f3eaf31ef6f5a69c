//! A UDF 2.50 volume laid out by hand after ECMA-167 and UDF 2.50: a metadata partition, a file embedded in its entry, one
//! with several extents of which one is not recorded, and one with strategy 4096 whose second version counts.

const BLOCK: usize = 2048;
/// First block of the partition; the metadata file stands in its blocks 10 to 29.
const PARTITION: usize = 300;
const METADATA: usize = 10;

struct Image(Vec<u8>);

fn tagged(id: u16, location: u32, mut bytes: Vec<u8>) -> Vec<u8> {
    let mut crc = 0u16;
    for &byte in &bytes[16..] {
        crc ^= u16::from(byte) << 8;
        for _ in 0..8 {
            crc = if crc & 0x8000 != 0 { crc << 1 ^ 0x1021 } else { crc << 1 };
        }
    }
    let len = bytes.len() as u16 - 16;
    bytes[..2].copy_from_slice(&id.to_le_bytes());
    bytes[2] = 3;
    bytes[8..10].copy_from_slice(&crc.to_le_bytes());
    bytes[10..12].copy_from_slice(&len.to_le_bytes());
    bytes[12..16].copy_from_slice(&location.to_le_bytes());
    bytes[4] = 0;
    bytes[4] = bytes[..16].iter().fold(0u8, |s, b| s.wrapping_add(*b));
    bytes
}

fn words(bytes: &mut [u8], at: usize, values: &[u32]) {
    for (index, value) in values.iter().enumerate() {
        bytes[at + index * 4..at + index * 4 + 4].copy_from_slice(&value.to_le_bytes());
    }
}

impl Image {
    fn put(&mut self, block: usize, bytes: &[u8]) {
        self.0[block * BLOCK..block * BLOCK + bytes.len()].copy_from_slice(bytes);
    }

    /// Into block `block` of the metadata partition.
    fn meta(&mut self, block: usize, bytes: &[u8]) {
        self.put(PARTITION + METADATA + block, bytes);
    }
}

/// An extended file entry: type, ICB flags (kind of descriptors), strategy, length, descriptors.
fn entry(location: u32, kind: u8, flags: u16, strategy: u16, len: u64, descriptors: &[u8]) -> Vec<u8> {
    let mut e = vec![0; 216 + descriptors.len()];
    e[20..22].copy_from_slice(&strategy.to_le_bytes());
    e[24] = 1;
    e[27] = kind;
    e[34..36].copy_from_slice(&flags.to_le_bytes());
    e[56..64].copy_from_slice(&len.to_le_bytes());
    words(&mut e, 212, &[descriptors.len() as u32]);
    e[216..].copy_from_slice(descriptors);
    tagged(266, location, e)
}

fn identifier(name: &str, characteristics: u8, icb: u32, icb_len: u32) -> Vec<u8> {
    let mut f = vec![0; (38 + if name.is_empty() { 0 } else { name.len() + 1 }).next_multiple_of(4)];
    f[16] = 1;
    f[18] = characteristics;
    words(&mut f, 20, &[icb_len, icb]);
    // The metadata partition is reference 1.
    f[28] = 1;
    if !name.is_empty() {
        f[19] = name.len() as u8 + 1;
        f[38] = 8;
        f[39..39 + name.len()].copy_from_slice(name.as_bytes());
    }
    tagged(257, 0, f)
}

fn long_ad(len: u32, block: u32, partition: u16) -> Vec<u8> {
    let mut ad = vec![0; 16];
    words(&mut ad, 0, &[len, block]);
    ad[8..10].copy_from_slice(&partition.to_le_bytes());
    ad
}

/// What both volumes begin with: marks, anchor, a partition of so many blocks, and a logical volume whose second map is of this kind;
/// the file set stands in block 0 of that map.
fn frame(blocks: usize, nsr: &[u8; 5], partition_len: u32, revision: u16, map: &[u8]) -> (Image, Vec<u8>) {
    let mut image = Image(vec![0; blocks * BLOCK]);
    for (block, id) in [(16, b"BEA01"), (17, nsr), (18, b"TEA01")] {
        image.put(block, &[&[0][..], id, &[1]].concat());
    }
    let mut anchor = vec![0; 512];
    words(&mut anchor, 16, &[16 * 2048, 32, 16 * 2048, 48]);
    image.put(256, &tagged(2, 256, anchor));
    let mut partition = vec![0; 512];
    words(&mut partition, 188, &[PARTITION as u32, partition_len]);
    image.put(32, &tagged(5, 32, partition));
    image.put(34, &tagged(8, 34, vec![0; 512]));
    let mut logical = vec![0; 440 + 6 + 64];
    words(&mut logical, 212, &[2048]);
    logical[217..236].copy_from_slice(b"*OSTA UDF Compliant");
    logical[240..242].copy_from_slice(&revision.to_le_bytes());
    logical[248..264].copy_from_slice(&long_ad(2048, 0, 1));
    words(&mut logical, 264, &[70, 2]);
    logical[440..446].copy_from_slice(&[1, 6, 1, 0, 0, 0]);
    logical[446..448].copy_from_slice(&[2, 64]);
    logical[451..451 + map.len()].copy_from_slice(map);
    logical[482..486].copy_from_slice(&[1, 0, 0, 0]);
    (image, logical)
}

pub fn image() -> Vec<u8> {
    let (mut image, mut logical) = frame(400, b"NSR03", 100, 0x0250, b"*UDF Metadata Partition");
    // The metadata file's entry is block 1 of the partition, its mirror block 2.
    words(&mut logical, 486, &[1, 2, u32::MAX]);
    image.put(33, &tagged(6, 33, logical));
    // The metadata file and its mirror have short descriptors: twenty blocks in two extents.
    let mut extents = vec![0; 16];
    words(&mut extents, 0, &[8 * 2048, METADATA as u32, 12 * 2048, METADATA as u32 + 8]);
    image.put(PARTITION + 1, &entry(1, 250, 0, 4, 20 * 2048, &extents));
    image.put(PARTITION + 2, &entry(2, 251, 0, 4, 20 * 2048, &extents));

    let mut set = vec![0; 512];
    set[400..416].copy_from_slice(&long_ad(2048, 1, 1));
    image.meta(0, &tagged(256, 0, set));
    let listing = [
        identifier("", 0x0a, 1, 2048),
        identifier("embedded", 0, 3, 2048),
        identifier("extents", 0, 4, 2048),
        identifier("versions", 0, 12, 2 * 2048),
    ]
    .concat();
    // The root folder is embedded in its entry too.
    image.meta(1, &entry(1, 4, 3, 4, listing.len() as u64, &listing));
    image.meta(3, &entry(3, 5, 3, 4, 21, b"kept in its own entry"));
    let ads = [long_ad(2048, 50, 0), long_ad(2048 | 1 << 30, 0, 0), long_ad(100, 52, 0)].concat();
    image.meta(4, &entry(4, 5, 1, 4, 2048 + 2048 + 100, &ads));
    image.put(PARTITION + 50, &[1; 2048]);
    image.put(PARTITION + 52, &[2; 100]);
    // Strategy 4096: an entry, then an indirect entry that leads to the next version.
    image.meta(12, &entry(12, 5, 3, 4096, 17, b"the first version"));
    let mut indirect = vec![0; 52];
    indirect[20..22].copy_from_slice(&4096u16.to_le_bytes());
    indirect[27] = 3;
    indirect[36..52].copy_from_slice(&long_ad(2 * 2048, 15, 1));
    image.meta(13, &tagged(259, 13, indirect));
    image.meta(15, &entry(15, 5, 3, 4096, 18, b"the second version"));
    image.0
}

/// A volume on a disc that is written once: a file was changed, so that its entry stands in another block now; the table is the
/// last thing that was written, in the form of revision 2.00 or of 1.50.
pub fn written_once(is_new: bool) -> Vec<u8> {
    let revision = if is_new { 0x0200 } else { 0x0150 };
    let (mut image, logical) = frame(331, b"NSR02", 1000, revision, b"*UDF Virtual Partition");
    image.put(33, &tagged(6, 33, logical));
    // Virtual blocks: the file set, the root, the changed file's entry, one that was given back.
    let table = [3u32, 4, 12, u32::MAX];
    let mut set = vec![0; 512];
    set[400..416].copy_from_slice(&long_ad(2048, 1, 1));
    image.put(PARTITION + 3, &tagged(256, 0, set));
    let listing = [identifier("", 0x0a, 1, 2048), identifier("tide.txt", 0, 2, 2048)].concat();
    image.put(PARTITION + 4, &entry(1, 4, 3, 4, listing.len() as u64, &listing));
    // The file as it was, and as it is: its bytes stand in the partition itself.
    image.put(PARTITION + 5, &entry(2, 5, 3, 4, 8, b"low tide"));
    image.put(PARTITION + 12, &entry(2, 5, 1, 4, 9, &long_ad(9, 14, 0)));
    image.put(PARTITION + 14, b"high tide");
    let mut content = Vec::new();
    if is_new {
        content.extend(152u16.to_le_bytes());
        content.resize(152, 0);
    }
    content.extend(table.iter().flat_map(|place| place.to_le_bytes()));
    if !is_new {
        let mut trailer = vec![0; 36];
        trailer[1..23].copy_from_slice(b"*UDF Virtual Alloc Tbl");
        words(&mut trailer, 32, &[u32::MAX]);
        content.extend(trailer);
    }
    // One table that was written before, whose entry still has the file as it was; then the one that counts.
    let mut old = content.clone();
    let at = if is_new { 152 } else { 0 } + 8;
    old[at..at + 4].copy_from_slice(&5u32.to_le_bytes());
    let kind = if is_new { 248 } else { 0 };
    image.put(PARTITION + 20, &entry(20, kind, 3, 4, old.len() as u64, &old));
    image.put(PARTITION + 30, &entry(30, kind, 3, 4, content.len() as u64, &content));
    image.0
}
