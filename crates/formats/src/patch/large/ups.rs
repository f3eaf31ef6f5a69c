//! UPS patches of files of any length: both are read once, side by side.

use super::bounded;
use crate::patch::ups::Writer;
use decanter_core::Result;
use decanter_core::source::{Source, SourceRef, read_vec};
use decanter_core::watch::{self, Watch};

/// Bytes of each file that are read at once.
const PIECE: u64 = 4 << 20;

/// Makes a patch between `old` and `new`; gives also the checksums of both.
///
/// # Errors
/// [`decanter_core::Error::Limit`] for a patch of more than a GiB, which nobody could read; what reading fails with;
/// [`decanter_core::Error::Cancelled`].
pub fn make(old: &SourceRef, new: &SourceRef, watch: &dyn Watch) -> Result<(Vec<u8>, [u32; 2])> {
    let most = old.len().max(new.len());
    let mut writer = Writer::new([old.len(), new.len()]);
    let mut at = 0;
    while at < most {
        watch::check(watch)?;
        let len = PIECE.min(most - at);
        let piece = |file: &dyn Source, what| {
            let own = file.len().saturating_sub(at).min(len);
            if own == 0 { Ok(Vec::new()) } else { read_vec(file, at, own, what, PIECE) }
        };
        writer.feed(&piece(old.as_ref(), "the file before")?, &piece(new.as_ref(), "the file after")?);
        bounded(writer.len())?;
        watch.advance(len);
        at += len;
    }
    Ok(writer.finish())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::patch::testing::noise;
    use crate::patch::ups;
    use decanter_core::source::Bytes;
    use std::sync::Arc;

    #[test]
    fn it_is_the_same_patch_as_of_files_that_are_held() {
        let old = noise(4, PIECE as usize + 70_000);
        let mut new = old.clone();
        // A difference that goes on from piece to piece, and one that ends with a piece.
        let edge = PIECE as usize;
        new[edge - 3..edge + 5].iter_mut().for_each(|byte| *byte ^= 0x5a);
        new[100] ^= 1;
        for (old, new) in [
            (old.clone(), new.clone()),
            (old.clone(), new[..edge - 1].to_vec()),
            (old[..90].to_vec(), new.clone()),
            (Vec::new(), old[..200].to_vec()),
            (Vec::new(), Vec::new()),
        ] {
            let [before, after]: [SourceRef; 2] = [&old, &new].map(|b| Arc::new(Bytes(b.clone())) as SourceRef);
            let (patch, sums) = make(&before, &after, &()).unwrap();
            assert!(patch == ups::make(&old, &new).unwrap());
            assert_eq!(sums, [&old, &new].map(|bytes| crc32fast::hash(bytes)));
        }
    }
}
