//! MSZIP: a deflate stream (RFC 1951) in each data block, which refers to what the block before gave.

use crate::lzx::{FRAME, Trouble};
use miniz_oxide::inflate::TINFLStatus;
use miniz_oxide::inflate::core::inflate_flags::TINFL_FLAG_USING_NON_WRAPPING_OUTPUT_BUF;
use miniz_oxide::inflate::core::{DecompressorOxide, decompress};

/// At the beginning of each block.
const MAGIC: &[u8] = b"CK";

/// A folder that is being unpacked.
#[derive(Clone)]
pub(super) struct MsZip {
    /// What the block before gave, then what this one gives.
    buffer: Box<[u8]>,
    decoder: Box<DecompressorOxide>,
}

impl MsZip {
    pub(super) fn new() -> Self {
        Self { buffer: vec![0; FRAME * 2].into(), decoder: Box::default() }
    }

    /// Unpacks one data block into `out`, which has as many bytes as it should give.
    ///
    /// # Errors
    /// What is wrong with it, in words.
    pub(super) fn frame(&mut self, packed: &[u8], out: &mut [u8]) -> Result<(), Trouble> {
        let packed = packed.strip_prefix(MAGIC).ok_or("it does not begin with CK")?;
        self.decoder.init();
        let end = FRAME + out.len();
        let flags = TINFL_FLAG_USING_NON_WRAPPING_OUTPUT_BUF;
        let (status, _, given) = decompress(&mut self.decoder, packed, &mut self.buffer[..end], FRAME, flags);
        match status {
            TINFLStatus::Done if given == out.len() => {}
            TINFLStatus::Done => return Err("it gives fewer bytes than it should"),
            TINFLStatus::HasMoreOutput => return Err("it gives more bytes than it should"),
            _ => return Err("its deflate stream is damaged"),
        }
        out.copy_from_slice(&self.buffer[FRAME..end]);
        self.buffer.copy_within(given..end, 0);
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use miniz_oxide::deflate::compress_to_vec;

    #[test]
    fn a_block_refers_to_the_one_before() {
        let mut own = MsZip::new();
        let first = [MAGIC, &compress_to_vec(&[7; FRAME], 6)].concat();
        let mut out = vec![0; FRAME];
        own.frame(&first, &mut out).unwrap();
        assert!(out.iter().all(|&b| b == 7));
        // By hand, fixed codes: last block; the match of 3 bytes from 32,768 before; the end.
        // 1 10(01 as read) | 0000001 length 3 | 11101 distance 24,577.. | 13 bits 8,191 | 0000000 end
        let mut bits: Vec<u8> = vec![1, 1, 0];
        bits.extend([0, 0, 0, 0, 0, 0, 1]);
        bits.extend([1, 1, 1, 0, 1]);
        bits.extend([1; 13]);
        bits.extend([0; 7]);
        let byte = |c: &[u8]| c.iter().enumerate().fold(0, |byte, (i, bit)| byte | bit << i);
        let packed: Vec<u8> = MAGIC.iter().copied().chain(bits.chunks(8).map(byte)).collect();
        let mut out = [0; 3];
        own.frame(&packed, &mut out).unwrap();
        assert_eq!(out, [7; 3]);
    }

    #[test]
    fn what_is_wrong_is_told() {
        let block = [MAGIC, &compress_to_vec(b"tide table", 6)].concat();
        let told = |packed: &[u8], len: usize| MsZip::new().frame(packed, &mut vec![0; len]).err().unwrap_or("");
        assert_eq!(told(&block, 10), "");
        assert!(told(&block, 9).contains("more") && told(&block, 11).contains("fewer"));
        assert!(told(&block[..5], 10).contains("damaged") && told(b"PK", 1).contains("CK"));
    }
}
