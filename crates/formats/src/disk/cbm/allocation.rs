//! The allocation map, and whether it, the directory and the chains agree.

use super::geometry::{Geometry, Kind, Place, SECTOR};
use super::{Entry, Image, petscii};
use decanter_core::seal::Settled;

/// Which sectors the disk says are free, and how many of each track.
#[derive(Debug, Clone)]
pub(super) struct Allocation {
    /// One for each sector; `None` where the map says nothing.
    free: Vec<Option<bool>>,
    /// Tracks with the count that the map has.
    counts: Vec<(u8, u8)>,
}

/// Where the map has what of a track: the sector, the byte with the count, and the sector and bytes with the bits.
pub(super) fn map_place(kind: Kind, track: u8) -> Option<(Place, usize, Place, usize)> {
    let header = kind.header();
    match (kind, track) {
        (Kind::D64 | Kind::D71, 1..=35) => {
            let at = usize::from(track) * 4;
            Some((header, at, header, at + 1))
        }
        (Kind::D71, 36..=70) => {
            let index = usize::from(track - 36);
            Some((header, 0xdd + index, Place::new(53, 0), index * 3))
        }
        (Kind::D81, 1..=80) => {
            let map = Place::new(40, if track <= 40 { 1 } else { 2 });
            let at = 0x10 + usize::from((track - 1) % 40) * 6;
            Some((map, at, map, at + 1))
        }
        _ => None,
    }
}

impl Allocation {
    pub(super) fn read(image: &Image) -> Self {
        let geometry = &image.geometry;
        let mut free = vec![None; geometry.blocks()];
        let mut counts = Vec::new();
        for track in 1..=geometry.tracks {
            let Some((count_in, count_at, bits_in, bits_at)) = map_place(geometry.kind, track) else { continue };
            let (Some(counts_sector), Some(bits)) = (image.sector(count_in), image.sector(bits_in)) else { continue };
            counts.push((track, counts_sector[count_at]));
            for sector in 0..geometry.kind.sectors(track) {
                let bit = bits[bits_at + usize::from(sector / 8)] >> (sector % 8) & 1;
                if let Some(block) = geometry.block(Place::new(track, sector)) {
                    free[block] = Some(bit == 1);
                }
            }
        }
        Self { free, counts }
    }

    /// Blocks that the drive would call free: those of the directory's own track are not counted.
    pub(super) fn free_count(&self) -> u32 {
        let own = |track: u8| if self.counts.len() > 70 { track == 40 } else { track == 18 || track == 53 };
        self.counts.iter().filter(|(t, _)| !own(*t)).map(|(_, n)| u32::from(*n)).sum()
    }
}

/// The sectors that the system itself takes.
pub(super) fn system_places(geometry: &Geometry) -> Vec<Place> {
    match geometry.kind {
        Kind::D64 => vec![Place::new(18, 0)],
        Kind::D71 => (0..19).map(|s| Place::new(53, s)).chain([Place::new(18, 0)]).collect(),
        Kind::D81 => (0..3).map(|s| Place::new(40, s)).collect(),
    }
}

/// Everything that can be checked.
pub(super) fn inspect(image: &Image, allocation: &Allocation) -> Vec<Settled> {
    let geometry = &image.geometry;
    let mut owners: Vec<Option<String>> = vec![None; geometry.blocks()];
    let (mut crossed, mut broken, mut counts, mut errors) = (Vec::new(), Vec::new(), Vec::new(), Vec::new());
    let (directory, entries) = image.directory();
    let mut own = |places: &[Place], name: &str, crossed: &mut Vec<String>| {
        for place in places {
            let Some(block) = geometry.block(*place) else { continue };
            match &owners[block] {
                Some(other) if other != name => crossed.push(format!("{place} belongs to both {other} and {name}")),
                _ => owners[block] = Some(name.to_owned()),
            }
            errors.extend(image.error(*place).map(|e| format!("{name}: {e}")));
        }
    };
    own(&system_places(geometry), "the allocation map", &mut crossed);
    own(&directory.places, "the directory", &mut crossed);
    broken.extend(directory.fault.iter().map(|f| format!("the directory: {f}")));
    for entry in entries.iter().filter(|e| e.first.track != 0) {
        let name = petscii::text(&entry.name);
        check_entry(image, entry, &name, &mut broken, &mut counts);
        for chain in image.chains(entry) {
            own(&chain.places, &name, &mut crossed);
        }
    }
    let (mut endangered, mut lost) = (Vec::new(), 0usize);
    for (block, owner) in owners.iter().enumerate() {
        match (allocation.free[block], owner) {
            (Some(true), Some(name)) => {
                endangered.push(format!("{} belongs to {name}, but is called free", geometry.place(block)))
            }
            (Some(false), None) if !is_kept(geometry, geometry.place(block)) => lost += 1,
            _ => {}
        }
    }
    let mut wrong_counts = Vec::new();
    for (track, count) in &allocation.counts {
        let bits = (0..geometry.kind.sectors(*track))
            .filter(|s| geometry.block(Place::new(*track, *s)).is_some_and(|b| allocation.free[b] == Some(true)));
        let bits = bits.count();
        if bits != usize::from(*count) && !is_kept(geometry, Place::new(*track, 0)) {
            wrong_counts.push(format!("track {track} has {bits} free sectors, its count says {count}"));
        }
    }
    let lost =
        if lost > 0 { vec![format!("{lost} sectors are called taken, but belong to no file")] } else { Vec::new() };
    let mut settled = vec![
        Settled::of("chains", &broken, "the file ends there, or is not the one that was written"),
        Settled::of("owners of sectors", &crossed, "at least one of the two files is overwritten"),
        Settled::of("allocation map", &endangered, "the next file that is saved overwrites it"),
        Settled::of("counts of the allocation map", &wrong_counts, "the drive reports a wrong number of free blocks"),
        Settled { matters: None, ..Settled::of("blocks in the directory", &counts, "") },
        Settled { matters: None, ..Settled::of("lost sectors", &lost, "") },
    ];
    if geometry.has_errors {
        settled.push(Settled::of(
            "error bytes",
            &errors,
            "the sector could not be read, or is a protection that the program asks for",
        ));
    }
    settled
}

/// Sectors that some systems keep without a file: the second side's own track.
fn is_kept(geometry: &Geometry, place: Place) -> bool {
    geometry.kind == Kind::D71 && place.track == 53
}

fn check_entry(image: &Image, entry: &Entry, name: &str, broken: &mut Vec<String>, counts: &mut Vec<String>) {
    let chains = image.chains(entry);
    broken.extend(chains.iter().filter_map(|c| c.fault.as_ref()).map(|f| format!("{name}: {f}")));
    let taken: usize = chains.iter().map(|c| c.places.len()).sum();
    if chains.iter().all(|c| c.fault.is_none()) && taken != usize::from(entry.blocks) {
        counts.push(format!("{name} takes {taken} blocks, the directory says {}", entry.blocks));
    }
}

/// Sets or clears a sector in the map of an image that is being made, with its count.
pub(super) fn mark(bytes: &mut [u8], geometry: &Geometry, place: Place, is_free: bool) {
    let Some((count_in, count_at, bits_in, bits_at)) = map_place(geometry.kind, place.track) else { return };
    let (Some(counts), Some(bits)) = (geometry.block(count_in), geometry.block(bits_in)) else { return };
    let byte = bits * SECTOR + bits_at + usize::from(place.sector / 8);
    let bit = 1 << (place.sector % 8);
    let was_free = bytes[byte] & bit != 0;
    if was_free == is_free {
        return;
    }
    bytes[byte] ^= bit;
    let count = &mut bytes[counts * SECTOR + count_at];
    *count = if is_free { *count + 1 } else { *count - 1 };
}
