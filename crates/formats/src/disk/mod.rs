//! Disks: partition tables, the file systems of PCs, and the disks of home computers.

pub mod amiga;
pub mod cbm;
mod claims;
pub mod exfat;
pub mod ext;
pub mod fat;
mod faults;
pub mod gpt;
pub mod mbr;
pub mod ntfs;

use decanter_core::Result;
use decanter_core::format::Opener;
use decanter_core::head::{Head, Mark};
use decanter_core::opened::Opened;
use decanter_core::role::{Medium, Role};
use decanter_core::source::{Source, SourceRef, read_array};
use decanter_core::tell;
use decanter_core::tell::size;
use decanter_core::tree::{File, Kind, Node};
use decanter_core::view::Slice;
use std::sync::Arc;

/// A partition as its table describes it.
struct Partition {
    /// How it is addressed: "1".
    name: String,
    /// What the table says it is.
    kind: String,
    start: u64,
    len: u64,
}

/// Adds a partition to what is known of the drive.
fn add_partition(opened: &mut Opened, partition: &Partition, source: &SourceRef, opener: &Opener<'_>) -> Result<()> {
    let Partition { name, kind, start, len } = partition;
    let left = source.len().saturating_sub(*start);
    let here = left.min(*len);
    let sector = start / 512;
    let end = start.saturating_add(*len);
    if here < *len {
        opened.damage(format!(
            "partition {name} ends at byte {end:#x}, {} past the end of the drive; what is there is handed out",
            tell::count(len - here, "byte", "bytes")
        ));
    }
    let file = if here == 0 {
        File::broken(*len, format!("it begins at byte {start:#x}, past the end of the drive"))
    } else {
        let slice: SourceRef = Arc::new(Slice::new(source.clone(), *start, here)?);
        let format =
            opener.registry().detect_among(&Head::new(slice.as_ref()), &|f| f.role() != Role::Image(Medium::Drive))?;
        let inside = format.map_or("nothing that is read here", |f| f.name());
        opened.fact("partition", format!("{name}: {}, {kind}, from sector {sector}: {inside}", size(*len)));
        File { len: here, spans: vec![*start..start + here], ..File::of(slice) }
    };
    opened.holds.tree.get_or_insert_default().nodes.push(Node::new(name.clone(), Kind::File(file), None));
    Ok(())
}

/// What a file of this extension and length might be, if no disk has that length.
pub fn odd_size(extension: &str, len: u64) -> Option<String> {
    match extension {
        "d64" | "d71" | "d81" => Some(format!("no disk has {len} bytes: {}", cbm::guess(len))),
        "adf" if !matches!(len, 901_120 | 1_802_240) => {
            let tracks = len / (11 * 512);
            Some(format!(
                "no Amiga disk has {len} bytes: 901120 are 160 tracks, this has {tracks} and {} bytes",
                len % (11 * 512)
            ))
        }
        _ => None,
    }
}

/// How much of a volume is used.
fn used(used: u64, all: u64) -> String {
    format!("{} of {}", size(used), size(all))
}

/// The last bytes of every first sector that a PC may start from.
const BOOT_MARK: Mark = Mark { at: 510, bytes: &[0x55, 0xaa] };

/// Whether a sector ends as boot sectors do.
fn is_boot_sector(source: &dyn Source) -> Result<bool> {
    Ok(source.len() >= 512 && read_array::<2>(source, 510)? == [0x55, 0xaa])
}

/// Runs of equal steps joined: spans of the source, in order.
fn push_span(spans: &mut Vec<std::ops::Range<u64>>, start: u64, len: u64) {
    match spans.last_mut() {
        Some(last) if last.end == start => last.end += len,
        _ => spans.push(start..start + len),
    }
}
