//! VCDIFF patches (RFC 3284): windows of copies and bytes, of files of any size. Layout: docs/formats/patches.md.

mod code;
mod large;
mod make;
mod parse;
mod turn;
mod window;
mod write;

pub use large::Maker;
pub use make::make;

use super::joined;
use code::{ID, MAGIC};
use decanter_core::format::{Format, Opener};
use decanter_core::head::{Head, Mark};
use decanter_core::opened::Opened;
use decanter_core::patch::{End, Patch};
use decanter_core::role::Role;
use decanter_core::source::SourceRef;
use decanter_core::{Error, Result};
use std::ops::Range;
use std::sync::Arc;
use turn::Turned;
use window::{Segment, Shared};

/// The format.
pub struct Vcdiff;

impl Format for Vcdiff {
    fn id(&self) -> &'static str {
        ID
    }

    fn name(&self) -> &'static str {
        "VCDIFF patch"
    }

    fn role(&self) -> Role {
        Role::Patch
    }

    fn extensions(&self) -> &'static [&'static str] {
        &["vcdiff", "vcd"]
    }

    fn reads(&self) -> &'static str {
        "RFC 3284, of files of any size; checksums of windows where there are some"
    }

    fn marks(&self) -> &'static [Mark] {
        const { &[Mark::first(MAGIC)] }
    }

    fn score(&self, _head: &Head<'_>) -> Result<Option<u8>> {
        Ok(Some(80))
    }

    fn open(&self, source: SourceRef, _opener: &Opener<'_>) -> Result<Opened> {
        let patch = VcdiffPatch { shared: Arc::new(parse::parse(source, 0)?) };
        let mut opened = Opened::new(ID, self.name());
        opened.fact("windows", patch.shared.windows.len().to_string());
        if patch.shared.windows.iter().any(|window| window.adler32.is_some()) {
            opened.fact("checksums", "of windows (Adler-32)".to_owned());
        }
        opened.holds.patch = Some(Arc::new(patch));
        Ok(opened)
    }
}

struct VcdiffPatch {
    shared: Arc<Shared>,
}

impl Patch for VcdiffPatch {
    fn source(&self) -> End {
        End::default()
    }

    fn target(&self) -> End {
        End { len: Some(self.shared.len()), crc32: None }
    }

    fn records(&self) -> u64 {
        self.shared.windows.len() as u64
    }

    fn touches(&self) -> Vec<Range<u64>> {
        let mut ranges = Vec::new();
        for window in &self.shared.windows {
            let known = ranges.len();
            if self.shared.touches(window, &mut ranges).is_err() {
                // What cannot be told may be anything; making it says why.
                ranges.truncate(known);
                ranges.push(window.makes.clone());
            }
        }
        joined(ranges)
    }

    fn apply(&self, source: &SourceRef) -> Result<SourceRef> {
        let needs = self.shared.windows.iter().filter_map(|window| match &window.segment {
            Segment::Before(range) => Some(range.end),
            _ => None,
        });
        if let Some(needed) = needs.max().filter(|needed| *needed > source.len()) {
            let why = format!(
                "the patch copies up to byte {needed} of a file that has {}: it is for another one",
                source.len()
            );
            return Err(Error::Unreadable { why });
        }
        Ok(Arc::new(Turned::new(source.clone(), self.shared.clone())))
    }

    fn undo(&self, _: &SourceRef) -> Result<SourceRef> {
        Err(Error::unsupported(ID, "the way back: a VCDIFF patch leads one way, and it"))
    }
}
