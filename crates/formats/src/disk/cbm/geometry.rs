//! Tracks and sectors of the three kinds of disks, and the sizes of their images.

/// Bytes of a sector.
pub(super) const SECTOR: usize = 256;

/// A track and a sector in it. Tracks count from 1.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub(super) struct Place {
    pub(super) track: u8,
    pub(super) sector: u8,
}

impl Place {
    pub(super) fn new(track: u8, sector: u8) -> Self {
        Self { track, sector }
    }
}

impl std::fmt::Display for Place {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "track {}, sector {}", self.track, self.sector)
    }
}

/// The kind of a disk.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Kind {
    D64,
    D71,
    D81,
}

impl Kind {
    pub(super) fn id(self) -> &'static str {
        match self {
            Self::D64 => "d64",
            Self::D71 => "d71",
            Self::D81 => "d81",
        }
    }

    /// Sectors of a track.
    pub(super) fn sectors(self, track: u8) -> u8 {
        let own = if self == Self::D71 && track > 35 { track - 35 } else { track };
        match (self, own) {
            (Self::D81, _) => 40,
            (_, 0..=17) => 21,
            (_, 18..=24) => 19,
            (_, 25..=30) => 18,
            _ => 17,
        }
    }

    /// Where the disk's name stands.
    pub(super) fn header(self) -> Place {
        if self == Self::D81 { Place::new(40, 0) } else { Place::new(18, 0) }
    }

    /// Where the directory begins.
    pub(super) fn directory(self) -> Place {
        if self == Self::D81 { Place::new(40, 3) } else { Place::new(18, 1) }
    }

    /// Where name, id and format letter stand in the header.
    pub(super) fn labels(self) -> (usize, usize) {
        if self == Self::D81 { (0x04, 0x16) } else { (0x90, 0xa2) }
    }

    /// How many sectors the drive goes on after reading one, while it works on it.
    pub(super) fn interleave(self) -> u8 {
        if self == Self::D81 { 1 } else { 10 }
    }
}

/// The shape of an image.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Geometry {
    pub(super) kind: Kind,
    pub(super) tracks: u8,
    /// Whether a byte for each sector follows, with the error that reading it gave.
    pub(super) has_errors: bool,
}

impl Geometry {
    pub(super) const fn new(kind: Kind, tracks: u8) -> Self {
        Self { kind, tracks, has_errors: false }
    }

    /// All that images of this kind usually are.
    fn usual(kind: Kind) -> Vec<Self> {
        let tracks: &[u8] = match kind {
            Kind::D64 => &[35, 40, 42],
            Kind::D71 => &[70],
            Kind::D81 => &[80],
        };
        let with = |t: &u8| [false, true].map(|has_errors| Self { kind, tracks: *t, has_errors });
        tracks.iter().flat_map(with).collect()
    }

    /// The shape of an image of so many bytes.
    pub(super) fn of_len(kind: Kind, len: u64) -> Option<Self> {
        Self::usual(kind).into_iter().find(|g| g.len() == len)
    }

    /// The smallest shape that an image of so many bytes may be the beginning of.
    pub(super) fn at_least(kind: Kind, len: u64) -> Option<Self> {
        Self::usual(kind).into_iter().filter(|g| !g.has_errors && g.len() >= len).min_by_key(Self::len)
    }

    /// Number of sectors.
    pub(super) fn blocks(&self) -> usize {
        (1..=self.tracks).map(|t| usize::from(self.kind.sectors(t))).sum()
    }

    /// Bytes of the image.
    pub(super) fn len(&self) -> u64 {
        (self.blocks() * (SECTOR + usize::from(self.has_errors))) as u64
    }

    /// Number of a sector from the beginning of the image; `None` if the disk has none there.
    pub(super) fn block(&self, place: Place) -> Option<usize> {
        let there = (1..=self.tracks).contains(&place.track) && place.sector < self.kind.sectors(place.track);
        let before: usize = (1..place.track).map(|t| usize::from(self.kind.sectors(t))).sum();
        there.then_some(before + usize::from(place.sector))
    }

    /// The place of sector `block`.
    pub(super) fn place(&self, block: usize) -> Place {
        let mut left = block;
        for track in 1..=self.tracks {
            let sectors = usize::from(self.kind.sectors(track));
            if left < sectors {
                return Place::new(track, left as u8);
            }
            left -= sectors;
        }
        Place::new(0, 0)
    }

    /// Every place of the disk, in order.
    pub(super) fn places(&self) -> impl Iterator<Item = Place> {
        let kind = self.kind;
        (1..=self.tracks).flat_map(move |t| (0..kind.sectors(t)).map(move |s| Place::new(t, s)))
    }
}

/// What an image of so many bytes might be, for those that are of no usual size.
pub fn guess(len: u64) -> String {
    let all = [Kind::D64, Kind::D71, Kind::D81].into_iter().flat_map(Geometry::usual);
    let near = all.min_by_key(|g| g.len().abs_diff(len));
    let Some(near) = near else { return String::new() };
    let errors = if near.has_errors { " with error bytes" } else { "" };
    let diff = near.len().abs_diff(len);
    let more = if near.len() > len { "fewer" } else { "more" };
    format!(
        "nearest is a {} of {} tracks{errors} ({} bytes): this has {diff} {more}",
        near.kind.id(),
        near.tracks,
        near.len()
    )
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_usual_sizes() {
        let len = |kind, tracks, has_errors| Geometry { kind, tracks, has_errors }.len();
        assert_eq!([len(Kind::D64, 35, false), len(Kind::D64, 35, true)], [174_848, 175_531]);
        assert_eq!([len(Kind::D64, 40, false), len(Kind::D64, 40, true)], [196_608, 197_376]);
        assert_eq!([len(Kind::D71, 70, false), len(Kind::D81, 80, false)], [349_696, 819_200]);
        let disk = Geometry::new(Kind::D64, 35);
        assert_eq!(disk.block(Place::new(18, 0)).map(|b| b * SECTOR), Some(0x16500));
        assert_eq!(disk.block(Place::new(18, 19)), None);
        assert!(disk.places().enumerate().all(|(i, p)| disk.block(p) == Some(i) && disk.place(i) == p));
        assert!(guess(174_847).contains("1 fewer"), "{}", guess(174_847));
    }
}
