//! Layouts as they stand in a source: unaligned structs with the byte order in their fields, taken out of bytes that are
//! checked to be long enough.

use decanter_core::source::Source;
use decanter_core::{Error, Result};
use zerocopy::{FromBytes, Immutable, IntoBytes, KnownLayout, Unaligned};

/// Defines layouts byte for byte; their sizes are held against those of the standard.
macro_rules! layouts {
    ($($(#[$doc:meta])* $name:ident: $size:literal { $($field:ident: $kind:ty,)* })*) => {$(
        $(#[$doc])*
        #[derive(
            Debug,
            Clone,
            Copy,
            zerocopy::FromBytes,
            zerocopy::IntoBytes,
            zerocopy::KnownLayout,
            zerocopy::Immutable,
            zerocopy::Unaligned,
        )]
        #[repr(C)]
        #[allow(dead_code, reason = "a layout has all its fields, whether they are read or not")]
        pub(super) struct $name {
            $(pub(super) $field: $kind,)*
        }
        const _: () = assert!(size_of::<$name>() == $size);
    )*};
}

pub(crate) use layouts;

/// What can be read at any place of any bytes.
pub(crate) trait Layout: FromBytes + KnownLayout + Immutable + Unaligned {}

impl<T: FromBytes + KnownLayout + Immutable + Unaligned> Layout for T {}

/// The `T` at byte `offset` of a source.
///
/// # Errors
/// What reading fails with.
pub(crate) fn read_at<T: FromBytes + IntoBytes>(source: &dyn Source, offset: u64) -> Result<T> {
    let mut own = T::new_zeroed();
    source.read_at(offset, own.as_mut_bytes())?;
    Ok(own)
}

/// The `T` that `bytes` begin with, and what follows it. `what` it is, in `format` at byte `offset`, is for the error.
///
/// # Errors
/// [`Error::Malformed`] where `bytes` end before it does.
pub(crate) fn split<'a, T: Layout>(
    format: &'static str,
    what: &str,
    bytes: &'a [u8],
    offset: u64,
) -> Result<(&'a T, &'a [u8])> {
    T::ref_from_prefix(bytes).map_err(|_| Error::malformed(format, format!("{what} is cut short"), offset))
}

#[cfg(test)]
mod tests {
    use super::*;
    use zerocopy::byteorder::{BE, LE, U16, U32};

    #[derive(FromBytes, KnownLayout, Immutable, Unaligned)]
    #[repr(C)]
    struct Pair {
        small: U16<BE>,
        large: U32<LE>,
    }

    #[test]
    fn what_is_cut_short_says_where() {
        let (pair, rest) = split::<Pair>("iso", "a pair", &[1, 2, 3, 0, 0, 0, 9], 0x40).unwrap();
        assert_eq!((pair.small.get(), pair.large.get(), rest), (0x102, 3, &[9][..]));
        let told = split::<Pair>("iso", "a pair", &[1, 2, 3, 0, 0], 0x40).err().unwrap().to_string();
        assert!(told.contains("a pair is cut short") && told.contains("0x40"), "{told}");
    }
}
