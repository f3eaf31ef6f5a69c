//! The dump that is put together of copies.

use super::compare::Compared;
use super::copies::Copy;
use decanter_core::Result;
use decanter_core::source::SourceRef;
use decanter_core::view::{Concat, Slice};
use std::ops::Range;
use std::sync::Arc;

/// The dump that comes of choosing a copy for each stretch; where nothing differs, that is the first that is long enough.
///
/// # Errors
/// When a copy is too short for what is taken from it.
pub(super) fn assembled(copies: &[Copy], compared: &Compared, chosen: &[Option<usize>]) -> Result<SourceRef> {
    let base = copies.iter().position(|copy| copy.source.len() == compared.len).unwrap_or(0);
    let mut parts: Vec<(usize, Range<u64>)> = Vec::new();
    let mut add = |copy: usize, span: Range<u64>| match parts.last_mut() {
        _ if span.is_empty() => {}
        Some(last) if last.0 == copy && last.1.end == span.start => last.1.end = span.end,
        _ => parts.push((copy, span)),
    };
    let mut at = 0;
    for (stretch, copy) in compared.stretches.iter().zip(chosen) {
        let span = compared.span(stretch);
        add(base, at..span.start);
        at = span.end;
        add(copy.unwrap_or(base), span);
    }
    add(base, at..compared.len);
    if let [(only, span)] = parts.as_slice()
        && *span == (0..copies[*only].source.len())
    {
        return Ok(copies[*only].source.clone());
    }
    let slice = |(copy, span): (usize, Range<u64>)| -> Result<SourceRef> {
        Ok(Arc::new(Slice::new(copies[copy].source.clone(), span.start, span.end - span.start)?))
    };
    Ok(Arc::new(Concat::new(parts.into_iter().map(slice).collect::<Result<Vec<_>>>()?)?))
}
