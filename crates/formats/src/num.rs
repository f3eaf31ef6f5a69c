//! Numbers in headers that were checked to be long enough.

macro_rules! readers {
    ($($name:ident: $number:ty, $from:ident, $bytes:literal, $order:literal;)*) => {$(
        #[doc = concat!("The ", $bytes, " bytes at `at`, ", $order, "-endian.")]
        pub(crate) fn $name(bytes: &[u8], at: usize) -> $number {
            let mut own = [0; $bytes];
            own.copy_from_slice(&bytes[at..at + $bytes]);
            <$number>::$from(own)
        }
    )*};
}

readers! {
    be16: u16, from_be_bytes, 2, "big";
    le16: u16, from_le_bytes, 2, "little";
    be32: u32, from_be_bytes, 4, "big";
    le32: u32, from_le_bytes, 4, "little";
    be64: u64, from_be_bytes, 8, "big";
    le64: u64, from_le_bytes, 8, "little";
}
