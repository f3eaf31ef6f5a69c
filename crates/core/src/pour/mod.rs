//! Pour: the only code that writes outputs.
//!
//! An output is written under a temporary name in the folder of its target, large block by large block, while
//! other threads read, decrypt and hash; it is flushed to the disk and gets its final name only when it is
//! complete. Stopped or killed at any moment, there is no file under the final name.

mod abreast;
mod blocks;
mod draft;
mod early;
mod folders;
mod journal;
mod late;
mod memory;
mod output;
mod packed;
mod part;
mod partial;
pub mod pipeline;
mod relocate;
mod stage;
mod stream;
mod sums;
mod together;

pub use draft::Draft;
pub use folders::{check_room, check_target, check_writable, make_folder};
pub use journal::Journal;
pub use memory::to_memory;
pub use output::Output;
pub use part::{clear_leftovers, leftovers, remove};
pub use partial::Partial;
pub use relocate::{relocate, remove_empty_folder, set_file, set_folder};
pub use stage::{Stage, StagedFile, check_folder, check_free};
pub use stream::{Streamed, onto};
pub use together::finish_names;

use crate::blueprint::{Blueprint, Content, Part};
use crate::digest::{self, Algorithm, Digest, Hasher};
use crate::error::{Error, Result};
use crate::guard::Door;
use crate::native;
use crate::os;
use crate::source::{FileSource, Place, SourceRef};
use crate::watch::Watch;
use blocks::BlockHasher;
use late::Found;
use pipeline::{Consumer, Data, Piece, Plan};
use serde::Serialize;
use std::collections::HashSet;
use std::fs::File;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use sums::{PartHashers, PartSums};

/// Shorter files have no holes that were worth a call.
const HOLES_FROM: u64 = 1 << 20;

/// What was written.
#[derive(Debug, Clone, Serialize)]
pub struct Poured {
    /// The file.
    #[serde(serialize_with = "crate::native::one")]
    pub path: PathBuf,
    /// Its length in bytes.
    pub bytes: u64,
    /// Its digests, in the order in which they were asked for.
    pub digests: Vec<Digest>,
    /// The digests of each part that were asked for by themselves, by the number of the part.
    #[serde(skip)]
    pub part_digests: Vec<Vec<Digest>>,
    /// Bytes that stayed inside the kernel, or that the file system shares with the source.
    pub kernel_bytes: u64,
    /// Bytes that are holes.
    pub hole_bytes: u64,
}

/// Writes one output. With [`Door::replace`], an existing file is replaced in one step.
///
/// # Errors
/// [`Error::Exists`], [`Error::NoSpace`] and [`Error::FileTooLarge`] before the first byte; later what reading or
/// writing fails with, or [`Error::Cancelled`]. In every case nothing new stands under the final name.
pub fn pour(output: Output<'_>, door: Door<'_>, watch: &dyn Watch) -> Result<Poured> {
    let mut poured = pour_all(&[output], door, watch, &mut |_| Ok(()))?;
    poured.pop().ok_or_else(|| Error::Usage("nothing was to be written".into()))
}

/// Writes several outputs that belong together: they get their final names only when all of them are complete and
/// `prove` accepts them. It is given the files under their temporary names.
///
/// Digests of a whole output are computed from the blocks as they are written; only one with late parts is read once more
/// for them.
///
/// # Errors
/// As [`pour`], and what `prove` fails with.
pub fn pour_all(
    outputs: &[Output<'_>],
    door: Door<'_>,
    watch: &dyn Watch,
    prove: &mut dyn FnMut(&[PathBuf]) -> Result<()>,
) -> Result<Vec<Poured>> {
    let needed = check_targets(outputs, door)?;
    let draft = |output: &Output<'_>| Draft::of(output, door, needed, watch);
    let drafts = outputs.iter().map(draft).collect::<Result<Vec<_>>>()?;
    let mut poured = Vec::new();
    for (output, draft) in outputs.iter().zip(&drafts) {
        let (file, path) = (draft.file(), draft.temporary_path());
        let written = early::while_writing(file, path, output.blueprint.len(), || {
            write_parts(output.blueprint, file, path, output.digests, watch)
        })?;
        poured.push(Poured {
            path: output.target.to_path_buf(),
            bytes: written.bytes,
            digests: written.digests,
            part_digests: written.part_digests,
            kernel_bytes: written.kernel_bytes,
            hole_bytes: written.hole_bytes,
        });
    }
    let paths: Vec<PathBuf> = drafts.iter().map(|d| d.temporary_path().to_owned()).collect();
    let bring = || drafts.iter().try_for_each(Draft::sync);
    early::while_proving(poured.iter().map(|p| p.bytes).sum(), &bring, || prove(&paths))?;
    name_all(drafts, door)?;
    Ok(poured)
}

/// Fails unless all outputs could be written now, beside each other: what [`pour_all`] checks before the first byte.
/// Returns the bytes that they will take on the disk.
///
/// # Errors
/// [`Error::Twice`], and as [`check_target`].
pub fn check_targets(outputs: &[Output<'_>], door: Door<'_>) -> Result<u64> {
    let place = |target: &Path| (folders::folder_of(target), target.file_name().map(ToOwned::to_owned));
    let mut places = HashSet::new();
    if let Some(twice) = outputs.iter().find(|o| !places.insert(place(o.target))) {
        return Err(Error::Twice { path: twice.target.to_path_buf() });
    }
    let needed = outputs.iter().map(|o| bytes_to_write(o.blueprint)).sum::<Result<u64>>()?;
    outputs.iter().try_for_each(|o| check_target(o.target, door, o.len(), needed))?;
    Ok(needed)
}

/// Gives all drafts their names once all of them are on the disk; if one cannot get its name, none keeps its own.
fn name_all(drafts: Vec<Draft>, door: Door<'_>) -> Result<()> {
    drafts.iter().try_for_each(Draft::sync)?;
    // Kept until all have their names.
    let _list = together::list(&drafts)?;
    let targets: Vec<PathBuf> = drafts.iter().map(|d| d.target().to_owned()).collect();
    for (index, draft) in drafts.into_iter().enumerate() {
        if let Err(e) = draft.name() {
            // What stood there before is gone if it was replaced: then the new ones are better than nothing.
            for named in targets[..index].iter().filter(|_| !door.replace) {
                match door.guard.depot(named) {
                    Some(depot) => depot.remove(&native::text(named))?,
                    None => part::remove(named)?,
                }
            }
            return Err(e);
        }
    }
    Ok(())
}

/// Length of the file as far as it is known before it is written.
fn largest_len(blueprint: &Blueprint) -> u64 {
    let known = |p: &&Part| !matches!(p.content, Content::Packed { .. });
    blueprint.parts.iter().filter(known).map(Part::len).sum()
}

/// Bytes that will take room on the disk, as far as that is known before: all but the runs of zeros that are known
/// without reading, and what packed parts become.
///
/// # Errors
/// What asking for extents fails with.
pub fn bytes_to_write(blueprint: &Blueprint) -> Result<u64> {
    let mut sum = 0;
    for part in &blueprint.parts {
        let source = match &part.content {
            Content::Source(source) => source,
            Content::Packed { .. } => continue,
            Content::Late { len, .. } => {
                sum += len;
                continue;
            }
        };
        let mut at = 0;
        while at < source.len() {
            let extent = source.extent_at(at)?;
            if !matches!(extent.place, Place::Fill(0)) {
                sum += extent.len;
            }
            at += extent.len;
        }
    }
    Ok(sum)
}

/// What [`write_parts`] found out on the way.
pub(crate) struct Written {
    pub(crate) bytes: u64,
    pub(crate) digests: Vec<Digest>,
    pub(crate) part_digests: Vec<Vec<Digest>>,
    pub(crate) kernel_bytes: u64,
    pub(crate) hole_bytes: u64,
}

/// Writes all parts into `file`, which is new and empty.
pub(crate) fn write_parts(
    blueprint: &Blueprint,
    file: &File,
    path: &Path,
    digests: &[Algorithm],
    watch: &dyn Watch,
) -> Result<Written> {
    let len = largest_len(blueprint);
    if len > HOLES_FROM {
        os::allow_holes(file);
    }
    file.set_len(len).map_err(|e| Error::io("reserve", path, e))?;
    let has_late = blueprint.parts.iter().any(|p| matches!(p.content, Content::Late { .. }));
    let mut whole: Vec<Hasher> = if has_late { Vec::new() } else { digests.iter().map(|&a| Hasher::new(a)).collect() };
    let mut measured = PartHashers::new(&blueprint.parts);
    // A CRC-32 can be put together of those of the parts; any other digest takes another read once late parts are there.
    let adds_up = has_late && digests == [Algorithm::Crc32] && blueprint.packed_part().is_none();
    let mut sums = adds_up.then(|| PartSums::new(blueprint.parts.len()));
    let mut blocks: Vec<BlockHasher> = blueprint.block_runs.iter().map(BlockHasher::new).collect();
    let mut output = Writing { file, path, kernel_bytes: 0, hole_bytes: 0 };
    let mut offsets = Vec::with_capacity(blueprint.parts.len());
    let mut marks = vec![Vec::new(); blueprint.parts.len()];
    let mut run: Vec<(usize, SourceRef)> = Vec::new();
    let (mut at, mut run_at) = (0, 0);
    for (number, part) in blueprint.parts.iter().enumerate() {
        offsets.push(at);
        match &part.content {
            Content::Source(source) => run.push((number, source.clone())),
            Content::Late { len, .. } => run.push((number, Arc::new(crate::view::Fill { byte: 0, len: *len }))),
            Content::Packed { source, packer } => {
                let look =
                    RunLook { whole: &mut whole, measured: &mut measured, blocks: &mut blocks, sums: sums.as_mut() };
                write_run(std::mem::take(&mut run), run_at, look, &mut output, watch)?;
                let raw = &mut measured.hashers[number];
                let look = packed::Look { raw, packed: &mut whole };
                let packer = packer.as_ref();
                let work = packed::Work { source, packer, output: &mut output, start: at, look, watch };
                let done = packed::write(work)?;
                marks[number] = done.marks;
                at += done.bytes;
                run_at = at;
                continue;
            }
        }
        at += part.len();
    }
    if whole.is_empty() && sums.is_none() && abreast::is_worth_it(blueprint) {
        abreast::write(run, run_at, &mut measured, &mut output, watch)?;
    } else {
        let look = RunLook { whole: &mut whole, measured: &mut measured, blocks: &mut blocks, sums: sums.as_mut() };
        write_run(run, run_at, look, &mut output, watch)?;
    }
    file.set_len(at).map_err(|e| Error::io("reserve", path, e))?;

    let blocks = blocks.into_iter().map(BlockHasher::finish).collect();
    let mut end = at;
    let mut found = Found { digests: measured.finish(), marks, blocks };
    late::resolve(blueprint, &mut found, &mut |number, bytes| {
        if let Some(sums) = &mut sums {
            sums.set(number, bytes);
        }
        if number + 1 == offsets.len() {
            end = offsets[number] + bytes.len() as u64;
        }
        os::write_all_at(file, bytes, offsets[number]).map_err(|e| Error::io_at("write", path, offsets[number], e))
    })?;
    if end < at {
        file.set_len(end).map_err(|e| Error::io("shorten", path, e))?;
    }
    let digests = match sums {
        Some(sums) => vec![sums.finish()],
        None if !has_late => whole.into_iter().map(Hasher::finish).collect(),
        None if digests.is_empty() => Vec::new(),
        None => digest::of_source(&(Arc::new(FileSource::own(path)?) as SourceRef), digests, &())?,
    };
    let part_digests = found.digests.into_iter().map(Option::unwrap_or_default).collect();
    // Late parts were gaps until they were computed.
    let late = |p: &Part| if matches!(p.content, Content::Late { .. }) { p.len() } else { 0 };
    let late_bytes: u64 = blueprint.parts.iter().map(late).sum();
    let Writing { kernel_bytes, hole_bytes, .. } = output;
    let hole_bytes = hole_bytes.saturating_sub(late_bytes);
    Ok(Written { bytes: end, digests, part_digests, kernel_bytes, hole_bytes })
}

/// The file that is being written.
struct Writing<'a> {
    file: &'a File,
    path: &'a Path,
    kernel_bytes: u64,
    hole_bytes: u64,
}

impl Writing<'_> {
    fn write(&mut self, bytes: &[u8], at: u64) -> Result<()> {
        os::write_all_at(self.file, bytes, at).map_err(|e| Error::io_at("write", self.path, at, e))
    }

    fn piece(&mut self, piece: &Piece) -> Result<()> {
        match &piece.data {
            Data::Block(block) => self.write(block.clear(), piece.at),
            Data::Fill(0, len) => {
                self.hole_bytes += len;
                Ok(())
            }
            Data::Fill(..) => {
                let mut at = piece.at;
                let mut result = Ok(());
                piece.each_slice(|bytes| {
                    if result.is_ok() {
                        result = self.write(bytes, at);
                        at += bytes.len() as u64;
                    }
                });
                result
            }
            Data::Kernel(from, offset, len) => {
                self.kernel_bytes += copy_in_kernel(from, *offset, self.file, self.path, piece.at, *len)?;
                Ok(())
            }
        }
    }
}

/// Who looks at the bytes of a run while it is written.
struct RunLook<'a> {
    whole: &'a mut [Hasher],
    measured: &'a mut PartHashers,
    blocks: &'a mut [BlockHasher],
    sums: Option<&'a mut PartSums>,
}

/// Writes parts that follow each other, from byte `at` of the output on.
fn write_run(
    run: Vec<(usize, SourceRef)>,
    at: u64,
    look: RunLook<'_>,
    output: &mut Writing<'_>,
    watch: &dyn Watch,
) -> Result<()> {
    if run.is_empty() {
        return Ok(());
    }
    let RunLook { whole, measured, blocks, sums } = look;
    let measures = run.iter().any(|(number, _)| !measured.hashers[*number].is_empty());
    let plan = Plan::parts(run, at, !whole.is_empty() || measures || !blocks.is_empty() || sums.is_some());
    let mut consumers: Vec<Consumer<'_>> = Vec::new();
    for hasher in whole {
        consumers.push(Box::new(move |p| p.each_slice(|bytes| hasher.update(bytes))));
    }
    if measures {
        consumers.push(Box::new(|p| measured.take(p)));
    }
    for hasher in blocks {
        consumers.push(Box::new(move |p| hasher.take(p)));
    }
    if let Some(sums) = sums {
        consumers.push(Box::new(|p| sums.take(p)));
    }
    pipeline::run_with(plan, consumers, watch, &mut |piece| {
        output.piece(&piece)?;
        watch.advance(piece.len());
        Ok(())
    })
}

/// Copies inside the kernel, or through memory where that is not possible. Returns the bytes that stayed inside.
fn copy_in_kernel(from: &File, mut from_at: u64, to: &File, path: &Path, mut to_at: u64, len: u64) -> Result<u64> {
    let mut left = len;
    let mut inside = 0;
    while left > 0 {
        let report = |e| Error::io_at("write", path, to_at, e);
        let done = match os::kernel_copy(from, from_at, to, to_at, left as usize).map_err(report)? {
            Some(done) => {
                inside += done;
                done
            }
            None => {
                let mut buf = vec![0; left.min(pipeline::BLOCK as u64) as usize];
                let failed = |source| Error::Io { op: "read", path: None, offset: Some(from_at), source };
                os::read_exact_at(from, &mut buf, from_at).map_err(failed)?;
                os::write_all_at(to, &buf, to_at).map_err(report)?;
                buf.len() as u64
            }
        };
        left -= done;
        from_at += done;
        to_at += done;
    }
    Ok(inside)
}
