//! Which sectors of a file that differs are to blame? A digest does not say; the bytes sometimes do.
//!
//! Signs, from sure to likely: bytes missing at the end; ciphertext that is no noise (a reader filled in what
//! it could not read); plaintext that is what a blank sector decrypts to; a sector that repeats the one before
//! it; a sector unlike all others of its file.

use decanter_core::format::looks_random;
use decanter_core::source::SourceRef;
use decanter_core::transform::Transform;
use decanter_core::{Result, SECTOR, Watch, watch};
use serde::Serialize;
use std::ops::Range;

/// Runs of suspect sectors that are told for one file.
const MOST_RUNS: usize = 32;
/// Sectors that are read at once.
const CHUNK: u64 = 512;
/// Of all sectors of a file, how many must be alike for one that is not to be suspect: 49 of 50.
const RARE: u64 = 50;

/// A run of sectors that may be damaged.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Suspect {
    /// First sector of the disc.
    pub first: u64,
    /// Last sector of the disc, included.
    pub last: u64,
    /// What makes it suspect.
    pub why: String,
}

/// What one sector looks like.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Look {
    Noise,
    Blank,
    Other,
}

/// Looks through the sectors of `spans`. `unseal` says which sectors of the source are ciphertext.
pub(super) fn find(
    source: &SourceRef,
    unseal: Option<&dyn Transform>,
    spans: &[Range<u64>],
    watch: &dyn Watch,
) -> Result<Vec<Suspect>> {
    let mut finder = Finder::default();
    for span in spans {
        // A file's last sector is on the disc as a whole, whatever the file needs of it.
        let end = span.end.next_multiple_of(SECTOR).min(source.len()) / SECTOR * SECTOR;
        let mut at = span.start;
        while at < end {
            watch::check(watch)?;
            let len = (end - at).min(CHUNK * SECTOR);
            let mut stored = vec![0; len as usize];
            source.read_at(at, &mut stored)?;
            let mut clear = stored.clone();
            if let Some(unseal) = unseal {
                unseal.apply(at, &mut clear);
            }
            let pairs = stored.chunks_exact(SECTOR as usize).zip(clear.chunks_exact(SECTOR as usize));
            for (index, (stored, clear)) in pairs.enumerate() {
                let place = at + index as u64 * SECTOR;
                let sealed = unseal.is_some_and(|t| t.touches(place..place + SECTOR));
                finder.sector(place / SECTOR, stored, clear, sealed);
            }
            at += len;
        }
        if end < span.end {
            let first = (end / SECTOR).max(span.start / SECTOR);
            finder.sure.push(Suspect {
                first,
                last: (span.end - 1) / SECTOR,
                why: "missing: the image ends before that".into(),
            });
        }
    }
    Ok(finder.finish())
}

#[derive(Default)]
struct Finder {
    sure: Vec<Suspect>,
    looks: Vec<(u64, Look)>,
    last_stored: Vec<u8>,
}

impl Finder {
    fn sector(&mut self, number: u64, stored: &[u8], clear: &[u8], sealed: bool) {
        let look = look(clear);
        let constant = stored.iter().all(|&b| b == stored[0]);
        let why = if sealed && constant {
            Some(format!("reads as {:#04x} throughout where ciphertext belongs", stored[0]))
        } else if sealed && !looks_random(stored) {
            Some("reads as something that is no ciphertext".into())
        } else if !sealed && is_decrypted_blank(clear) {
            Some("is what a blank sector decrypts to: it could not be read when the disc was dumped".into())
        } else if !constant && stored == self.last_stored.as_slice() && (sealed || look == Look::Noise) {
            Some("repeats the sector before it".into())
        } else {
            None
        };
        match why {
            Some(why) => self.push(number, why),
            None => self.looks.push((number, look)),
        }
        self.last_stored.clear();
        self.last_stored.extend_from_slice(stored);
    }

    fn push(&mut self, number: u64, why: String) {
        match self.sure.last_mut() {
            Some(run) if run.last + 1 == number && run.why == why => run.last = number,
            _ => self.sure.push(Suspect { first: number, last: number, why }),
        }
    }

    /// The sure signs, or, when there are none, the sectors that are unlike the rest of the file.
    fn finish(mut self) -> Vec<Suspect> {
        if self.sure.is_empty() {
            let count = |wanted: Look| self.looks.iter().filter(|(_, l)| *l == wanted).count() as u64;
            let all = self.looks.len() as u64;
            let (noise, blank) = (count(Look::Noise), count(Look::Blank));
            let rare = |n: u64| n > 0 && n * RARE <= all;
            let looks = std::mem::take(&mut self.looks);
            for (number, look) in looks {
                match look {
                    Look::Noise if rare(noise) => {
                        self.push(number, "looks like noise, unlike the rest of the file".into())
                    }
                    Look::Blank if rare(blank) && noise > blank => {
                        self.push(number, "is blank, unlike the rest of the file".into());
                    }
                    Look::Other if rare(all - noise - blank) && noise > 0 => {
                        self.push(number, "is no noise, unlike the rest of the file".into());
                    }
                    _ => {}
                }
            }
        }
        self.sure.truncate(MOST_RUNS);
        self.sure
    }
}

fn look(sector: &[u8]) -> Look {
    if sector.iter().all(|&b| b == sector[0]) {
        Look::Blank
    } else if looks_random(sector) {
        Look::Noise
    } else {
        Look::Other
    }
}

/// True for what CBC makes of a sector of equal bytes: all cipher blocks but the first come out the same.
fn is_decrypted_blank(clear: &[u8]) -> bool {
    let (blocks, _) = clear.as_chunks::<16>();
    let Some((_, rest)) = blocks.split_first() else { return false };
    let block = rest[0];
    let varied = block.iter().collect::<std::collections::HashSet<_>>().len() > 8;
    varied && rest.iter().all(|b| *b == block)
}

#[cfg(test)]
mod tests {
    use super::*;
    use decanter_core::keyring::Key;
    use decanter_core::source::Bytes;
    use decanter_core::view::{Direction, SectorCbc};
    use std::sync::Arc;

    fn text(sectors: usize) -> Vec<u8> {
        (0..sectors * 2048).map(|i| b"brine and bramble "[(i / 3 + i % 7) % 18]).collect()
    }

    fn found(data: Vec<u8>, unseal: Option<&dyn Transform>) -> Vec<(u64, u64)> {
        let spans = [0..data.len() as u64];
        let source: SourceRef = Arc::new(Bytes(data));
        find(&source, unseal, &spans, &()).unwrap().into_iter().map(|s| (s.first, s.last)).collect()
    }

    #[test]
    fn a_blank_sector_is_found_before_and_after_decryption() {
        let key = Key::new((1..17).collect());
        let whole: Arc<[Range<u64>]> = Arc::from([0..100 * SECTOR]);
        let seal = SectorCbc::new(&key, Direction::Encrypt, SECTOR, whole.clone()).unwrap();
        let unseal = SectorCbc::new(&key, Direction::Decrypt, SECTOR, whole).unwrap();
        let mut data = text(100);
        seal.apply(0, &mut data);
        data[40 * 2048..42 * 2048].fill(0);
        assert_eq!(found(data.clone(), Some(&unseal)), [(40, 41)]);
        unseal.apply(0, &mut data);
        assert_eq!(found(data, None), [(40, 41)]);
    }

    #[test]
    fn a_sector_unlike_the_others_is_suspect() {
        let mut data = text(100);
        let mut x = 7u32;
        for byte in &mut data[60 * 2048..61 * 2048] {
            x = x.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
            *byte = (x >> 24) as u8;
        }
        assert_eq!(found(data, None), [(60, 60)]);
        assert_eq!(found(text(100), None), []);
    }
}
