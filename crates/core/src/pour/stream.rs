//! Onto a stream: bytes in order, without a name and without a way back.

use super::pipeline::{self, Consumer, Piece, Plan};
use super::{largest_len, write_parts};
use crate::blueprint::{Blueprint, Content};
use crate::digest::{Algorithm, Digest, Hasher};
use crate::error::{Error, Result};
use crate::watch::{self, Watch};
use std::io::{Read, Seek, Write};
use std::path::Path;

/// What standard output is called in errors.
const NAME: &str = "standard output";

/// What went onto a stream.
#[derive(Debug, Clone)]
pub struct Streamed {
    /// Bytes.
    pub bytes: u64,
    /// Digests of all of them, in the order in which they were asked for.
    pub digests: Vec<Digest>,
    /// The digests of each part that were asked for by themselves, by the number of the part.
    pub part_digests: Vec<Vec<Digest>>,
}

/// Writes all bytes of a blueprint onto `out`. What has parts that are known only in the end (packed content, headers with
/// digests) is completed in a nameless temporary file in the folder `scratch` first; everything else goes straight through.
///
/// # Errors
/// What reading or writing fails with, or [`Error::Cancelled`]; some bytes may have gone out by then.
pub fn onto(
    out: &mut dyn Write,
    blueprint: &Blueprint,
    digests: &[Algorithm],
    scratch: &Path,
    watch: &dyn Watch,
) -> Result<Streamed> {
    let streamed = match blueprint.parts.iter().all(|p| matches!(p.content, Content::Source(_))) {
        true => straight(out, blueprint, digests, watch),
        false => completed(out, blueprint, digests, scratch, watch),
    }?;
    out.flush().map_err(|e| Error::io("write", Path::new(NAME), e))?;
    Ok(streamed)
}

fn straight(out: &mut dyn Write, blueprint: &Blueprint, digests: &[Algorithm], watch: &dyn Watch) -> Result<Streamed> {
    let sources = blueprint.parts.iter().enumerate().filter_map(|(number, part)| match &part.content {
        Content::Source(source) => Some((number, source.clone())),
        _ => None,
    });
    let mut hashers: Vec<Hasher> = digests.iter().map(|&a| Hasher::new(a)).collect();
    let consumers = (hashers.iter_mut())
        .map(|hasher| Box::new(move |p: &Piece| p.each_slice(|bytes| hasher.update(bytes))) as Consumer<'_>)
        .collect();
    // Every byte has to pass through here: nothing stays inside the kernel.
    let plan = Plan::parts(sources.collect(), 0, true);
    pipeline::run_with(plan, consumers, watch, &mut |piece| {
        let mut written = Ok(());
        piece.each_slice(|bytes| {
            if written.is_ok() {
                written = out.write_all(bytes);
            }
        });
        written.map_err(|e| Error::io_at("write", Path::new(NAME), piece.at, e))?;
        watch.advance(piece.len());
        Ok(())
    })?;
    let digests = hashers.into_iter().map(Hasher::finish).collect();
    Ok(Streamed { bytes: largest_len(blueprint), digests, part_digests: Vec::new() })
}

fn completed(
    out: &mut dyn Write,
    blueprint: &Blueprint,
    digests: &[Algorithm],
    folder: &Path,
    watch: &dyn Watch,
) -> Result<Streamed> {
    super::check_room(folder, super::bytes_to_write(blueprint)?, largest_len(blueprint))?;
    let mut file = tempfile::tempfile_in(folder).map_err(|e| Error::io("write", folder, e))?;
    let written = write_parts(blueprint, &file, folder, &[], watch)?;
    let mut hashers: Vec<Hasher> = digests.iter().map(|&a| Hasher::new(a)).collect();
    file.rewind().map_err(|e| Error::io("read", folder, e))?;
    let mut block = vec![0; pipeline::BLOCK];
    let mut at = 0;
    while at < written.bytes {
        watch::check(watch)?;
        let now = block.len().min((written.bytes - at) as usize);
        file.read_exact(&mut block[..now]).map_err(|e| Error::io_at("read", folder, at, e))?;
        hashers.iter_mut().for_each(|hasher| hasher.update(&block[..now]));
        out.write_all(&block[..now]).map_err(|e| Error::io_at("write", Path::new(NAME), at, e))?;
        at += now as u64;
    }
    let digests = hashers.into_iter().map(Hasher::finish).collect();
    Ok(Streamed { bytes: written.bytes, digests, part_digests: written.part_digests })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::source::{Bytes, SourceRef};
    use std::sync::Arc;

    #[test]
    fn a_stream_has_the_bytes_of_the_file() {
        let bytes: Vec<u8> = (0..3_000_000u32).map(|i| (i / 7) as u8).collect();
        let source: SourceRef = Arc::new(Bytes(bytes.clone()));
        let mut out = Vec::new();
        let streamed = onto(&mut out, &Blueprint::of(source), &[Algorithm::Crc32], Path::new("."), &()).unwrap();
        assert!(out == bytes && streamed.bytes == 3_000_000);
        assert_eq!(streamed.digests[0].bytes, crc32fast::hash(&bytes).to_be_bytes());
    }

    #[test]
    fn a_reader_that_goes_away_ends_it() {
        let source: SourceRef = Arc::new(Bytes(vec![1; 5_000_000]));
        let mut small = [0; 100];
        let error = onto(&mut &mut small[..], &Blueprint::of(source), &[], Path::new("."), &()).unwrap_err();
        assert!(matches!(error, Error::Io { op: "write", .. }), "{error}");
    }
}
