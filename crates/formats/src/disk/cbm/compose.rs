//! New disks, laid out as the drive would have written them.

use super::allocation::{mark, system_places};
use super::geometry::{Geometry, Kind, Place, SECTOR};
use super::petscii::{self, MOST_NAME, PAD};
use decanter_core::{Error, Result};

/// Bytes of content in a sector.
const BODY: usize = SECTOR - 2;
/// Entries of the directory in a sector, and sectors between two of it.
const ENTRIES: usize = 8;
const DIRECTORY_INTERLEAVE: u8 = 3;

/// A file for a new disk: its name in bytes, its type as the directory has it, its content.
pub struct NewFile {
    /// At most sixteen bytes.
    pub name: Vec<u8>,
    /// 1 SEQ, 2 PRG, 3 USR.
    pub kind: u8,
    /// What it holds.
    pub content: Vec<u8>,
}

/// A new disk.
pub struct Composed {
    /// The image.
    pub bytes: Vec<u8>,
    /// Blocks that the files take.
    pub used: usize,
    /// Blocks that are left.
    pub free: usize,
}

/// The tracks in the order in which they are filled: outwards from the directory.
fn track_order(geometry: &Geometry) -> Vec<u8> {
    let (own, last) = (geometry.kind.directory().track, geometry.tracks);
    let mut order: Vec<u8> = Vec::new();
    for distance in 1..last {
        order.extend(own.checked_sub(distance).filter(|t| *t > 0));
        order.extend(Some(own + distance).filter(|t| *t <= last));
    }
    order
}

/// A disk of the kind `id` (d64 or d81) with these files, called `title`, with an id of two characters.
///
/// # Errors
/// [`Error::Usage`] with the numbers, and the files that do not fit.
pub fn compose(id: &str, files: &[NewFile], title: &str, disk_id: &str) -> Result<Composed> {
    let geometry = match id {
        "d81" => Geometry::new(Kind::D81, 80),
        _ => Geometry::new(Kind::D64, 35),
    };
    let mut disk = Builder::new(geometry, title, disk_id)?;
    let all = disk.free;
    let needs: Vec<usize> = files.iter().map(|f| f.content.len().div_ceil(BODY).max(1)).collect();
    let most_entries = disk.directory_room() * ENTRIES;
    let (mut sum, mut beyond) = (0, Vec::new());
    for (file, need) in files.iter().zip(&needs) {
        if sum + need > all {
            beyond.push(format!("{} ({need} blocks)", petscii::text(&file.name)));
        } else {
            sum += need;
        }
    }
    if !beyond.is_empty() {
        let more = if id == "d81" { "; make several disks" } else { "; --to d81 has room for 3160" };
        let needed: usize = needs.iter().sum();
        return Err(Error::Usage(format!(
            "{needed} blocks are needed, a {id} has {all}: there is no room for {}{more}",
            beyond.join(", ")
        )));
    }
    if files.len() > most_entries {
        return Err(Error::Usage(format!("{} files are too many: a {id} lists {most_entries}", files.len())));
    }
    let mut entries = Vec::new();
    for (file, need) in files.iter().zip(&needs) {
        let first = disk.write(&file.content)?;
        let mut entry = [0; 32];
        entry[2] = 0x80 | file.kind;
        (entry[3], entry[4]) = (first.track, first.sector);
        entry[5..21].fill(PAD);
        let len = file.name.len().min(MOST_NAME);
        entry[5..5 + len].copy_from_slice(&file.name[..len]);
        entry[30..].copy_from_slice(&(*need as u16).to_le_bytes());
        entries.push(entry);
    }
    disk.directory(&entries)?;
    Ok(Composed { used: sum, free: disk.free, bytes: disk.bytes })
}

struct Builder {
    geometry: Geometry,
    bytes: Vec<u8>,
    taken: Vec<bool>,
    free: usize,
}

impl Builder {
    fn new(geometry: Geometry, title: &str, disk_id: &str) -> Result<Self> {
        let kind = geometry.kind;
        let text = |text: &str, len: usize| -> Result<Vec<u8>> {
            let bytes = petscii::bytes(text).filter(|b| b.len() <= len);
            let mut bytes = bytes.ok_or_else(|| {
                Error::Usage(format!("\"{text}\" cannot stand on the disk: at most {len} capitals, digits and signs"))
            })?;
            bytes.resize(len, PAD);
            Ok(bytes)
        };
        let (title, disk_id) = (text(title, 16)?, text(disk_id, 2)?);
        let mut builder =
            Self { geometry, bytes: vec![0; geometry.len() as usize], taken: vec![false; geometry.blocks()], free: 0 };
        let (name_at, id_at) = kind.labels();
        let header = builder.at(kind.header());
        let directory = kind.directory();
        let letter = if kind == Kind::D81 { b'D' } else { b'A' };
        let head = &mut builder.bytes[header..header + SECTOR];
        (head[0], head[1], head[2]) = (directory.track, directory.sector, letter);
        head[name_at..id_at + 7].fill(PAD);
        head[name_at..name_at + 16].copy_from_slice(&title);
        head[id_at..id_at + 2].copy_from_slice(&disk_id);
        head[id_at + 3..id_at + 5].copy_from_slice(if kind == Kind::D81 { b"3D" } else { b"2A" });
        if kind == Kind::D64 {
            // The drive leaves the two bytes after the name's field filled up as well.
            head[0xa9..0xab].fill(PAD);
        }
        if kind == Kind::D81 {
            for (sector, next) in [(1, Place::new(40, 2)), (2, Place::new(0, 255))] {
                let at = builder.at(Place::new(40, sector));
                let map = &mut builder.bytes[at..at + SECTOR];
                (map[0], map[1], map[2], map[3], map[6]) = (next.track, next.sector, b'D', !b'D', 0xc0);
                map[4..6].copy_from_slice(&disk_id);
            }
        }
        for place in geometry.places() {
            mark(&mut builder.bytes, &geometry, place, true);
        }
        for place in system_places(&geometry).into_iter().chain([directory]) {
            builder.take(place);
        }
        builder.free = geometry.places().filter(|p| p.track != directory.track).count();
        Ok(builder)
    }

    /// Where a sector begins in the image.
    fn at(&self, place: Place) -> usize {
        self.geometry.block(place).unwrap_or(0) * SECTOR
    }

    fn is_free(&self, place: Place) -> bool {
        self.geometry.block(place).is_some_and(|b| !self.taken[b])
    }

    fn take(&mut self, place: Place) {
        if let Some(block) = self.geometry.block(place).filter(|b| !self.taken[*b]) {
            self.taken[block] = true;
            self.free = self.free.saturating_sub(usize::from(place.track != self.geometry.kind.directory().track));
            mark(&mut self.bytes, &self.geometry, place, false);
        }
    }

    /// Sectors that the directory may have.
    fn directory_room(&self) -> usize {
        let first = self.geometry.kind.directory();
        usize::from(self.geometry.kind.sectors(first.track) - first.sector)
    }

    /// The free sector after `last` in the order of the drive: some further on, then the next track.
    fn next(&self, last: Option<Place>) -> Option<Place> {
        let kind = self.geometry.kind;
        let order = track_order(&self.geometry);
        let (from, wish) = match last {
            Some(last) => {
                let sectors = kind.sectors(last.track);
                let mut wish = last.sector + kind.interleave();
                if wish >= sectors {
                    wish -= sectors;
                    wish = wish.saturating_sub(u8::from(kind != Kind::D81));
                }
                (order.iter().position(|t| *t == last.track).unwrap_or(0), wish)
            }
            None => (0, 0),
        };
        // A file goes on in the track where it is, then away from the directory, then wherever there is room.
        let same_side =
            |track: &u8| last.is_none_or(|l| (*track < kind.directory().track) == (l.track < kind.directory().track));
        let (near, far): (Vec<u8>, Vec<u8>) = order[from..].iter().chain(&order[..from]).partition(|t| same_side(t));
        for (index, track) in near.into_iter().chain(far).enumerate() {
            let sectors = kind.sectors(track);
            let first = if index == 0 { wish } else { 0 };
            let found = (0..sectors).map(|s| Place::new(track, (first + s) % sectors)).find(|p| self.is_free(*p));
            if found.is_some() {
                return found;
            }
        }
        None
    }

    /// Writes a file; returns where it begins.
    fn write(&mut self, content: &[u8]) -> Result<Place> {
        let no_room = || Error::Usage("the disk is full".into());
        let mut pieces: Vec<&[u8]> = content.chunks(BODY).collect();
        if pieces.is_empty() {
            pieces.push(&[]);
        }
        let first = self.next(None).ok_or_else(no_room)?;
        let mut place = first;
        for (index, piece) in pieces.iter().enumerate() {
            self.take(place);
            let at = self.at(place);
            self.bytes[at + 2..at + 2 + piece.len()].copy_from_slice(piece);
            if index + 1 == pieces.len() {
                (self.bytes[at], self.bytes[at + 1]) = (0, piece.len() as u8 + 1);
            } else {
                let next = self.next(Some(place)).ok_or_else(no_room)?;
                (self.bytes[at], self.bytes[at + 1]) = (next.track, next.sector);
                place = next;
            }
        }
        Ok(first)
    }

    fn directory(&mut self, entries: &[[u8; 32]]) -> Result<()> {
        let kind = self.geometry.kind;
        let mut place = kind.directory();
        let sectors: Vec<&[[u8; 32]]> = if entries.is_empty() { vec![&[]] } else { entries.chunks(ENTRIES).collect() };
        for (index, own) in sectors.iter().enumerate() {
            self.take(place);
            let at = self.at(place);
            for (number, entry) in own.iter().enumerate() {
                self.bytes[at + number * 32..][..32].copy_from_slice(entry);
            }
            if index + 1 == sectors.len() {
                (self.bytes[at], self.bytes[at + 1]) = (0, 0xff);
                break;
            }
            let step = if kind == Kind::D81 { 1 } else { DIRECTORY_INTERLEAVE };
            let count = kind.sectors(place.track);
            let wish = (place.sector + step) % count;
            let next = (0..count).map(|s| Place::new(place.track, (wish + s) % count)).find(|p| self.is_free(*p));
            let next = next.ok_or_else(|| Error::Usage("the directory is full".into()))?;
            (self.bytes[at], self.bytes[at + 1]) = (next.track, next.sector);
            place = next;
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn file(name: &str, len: usize) -> NewFile {
        NewFile { name: name.as_bytes().to_vec(), kind: 2, content: (0..len).map(|i| i as u8).collect() }
    }

    /// Byte offset of a sector of a D64: tracks of 21, 19, 18 and 17 sectors.
    fn at(track: usize, sector: usize) -> usize {
        let sectors = |t: usize| match t {
            1..=17 => 21,
            18..=24 => 19,
            25..=30 => 18,
            _ => 17,
        };
        ((1..track).map(sectors).sum::<usize>() + sector) * SECTOR
    }

    /// A disk with one file of two blocks, counted by hand.
    #[test]
    fn a_small_disk_has_these_bytes() {
        let made = compose("d64", &[file("RACE", 300)], "PIER", "DC").unwrap();
        let disk = &made.bytes;
        assert_eq!((disk.len(), made.used, made.free), (174_848, 2, 662));
        // The header: where the directory is, the format, the map, the names.
        let header = &disk[at(18, 0)..][..SECTOR];
        assert_eq!(header[..4], [18, 1, b'A', 0]);
        assert_eq!(header[4..8], [21, 0xff, 0xff, 0x1f], "track 1 is free: 21 bits");
        assert_eq!(header[18 * 4..19 * 4], [17, 0xfc, 0xff, 0x07], "18/0 and 18/1 are taken");
        assert_eq!(
            &header[0x90..0xab],
            b"PIER\xa0\xa0\xa0\xa0\xa0\xa0\xa0\xa0\xa0\xa0\xa0\xa0\xa0\xa0DC\xa02A\xa0\xa0\xa0\xa0"
        );
        // The file begins beside the directory and goes on ten sectors further.
        let entry = &disk[at(18, 1)..][..32];
        assert_eq!(entry[..5], [0, 0xff, 0x82, 17, 0]);
        assert_eq!((&entry[5..10], entry[30], entry[31]), (&b"RACE\xa0"[..], 2, 0));
        assert_eq!(disk[at(17, 0)..][..2], [17, 10]);
        assert_eq!(disk[at(17, 10)..][..3], [0, 47, 254], "46 bytes: the last one's number is 47");
        assert_eq!(header[17 * 4..18 * 4], [19, 0xfe, 0xfb, 0x1f]);
    }

    #[test]
    fn more_than_eight_files_go_on_three_sectors_further() {
        let files: Vec<NewFile> = (0..9).map(|n| file(&format!("F{n}"), 0)).collect();
        let disk = compose("d64", &files, "MANY", "DC").unwrap().bytes;
        assert_eq!(disk[at(18, 1)..][..2], [18, 4]);
        assert_eq!(disk[at(18, 4)..][..7], [0, 0xff, 0x82, 17, disk[at(18, 4) + 4], b'F', b'8']);
        // An empty file has a block that says so.
        assert_eq!(disk[at(17, 0)..][..2], [0, 1]);
    }

    #[test]
    fn what_does_not_fit_is_refused_with_the_numbers() {
        let told = |files: &[NewFile], title: &str| compose("d64", files, title, "DC").err().unwrap().to_string();
        let large = told(&[file("BIG", 664 * 254 + 1)], "A");
        assert!(
            large.contains("665 blocks are needed, a d64 has 664") && large.contains("BIG (665 blocks)"),
            "{large}"
        );
        let many: Vec<NewFile> = (0..145).map(|n| file(&format!("F{n}"), 1)).collect();
        assert!(told(&many, "A").contains("145 files are too many: a d64 lists 144"));
        assert!(told(&[], "A TITLE THAT IS TOO LONG").contains("cannot stand on the disk"));
        assert_eq!(compose("d81", &[], "A", "DC").unwrap().free, 3160);
    }
}
