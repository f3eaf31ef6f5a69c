//! Orders of bytes in ROM files, each its own inverse or with its inverse beside it.

/// Bytes of a block of the interleaved Mega Drive form.
pub const SMD_BLOCK: u64 = 16 << 10;

/// Swaps the bytes of each pair.
pub fn swap_pairs(bytes: &mut [u8]) {
    bytes.chunks_exact_mut(2).for_each(|p| p.swap(0, 1));
}

/// Reverses each group of four bytes.
pub fn swap_words(bytes: &mut [u8]) {
    bytes.chunks_exact_mut(4).for_each(<[u8]>::reverse);
}

/// Reverses the bits of each byte.
pub fn mirror_bits(bytes: &mut [u8]) {
    bytes.iter_mut().for_each(|b| *b = b.reverse_bits());
}

/// From the interleaved form: each block of 16 KiB holds its odd bytes first, then its even ones.
pub fn unweave(bytes: &mut [u8]) {
    let half = SMD_BLOCK as usize / 2;
    let mut plain = vec![0; SMD_BLOCK as usize];
    for block in bytes.chunks_exact_mut(SMD_BLOCK as usize) {
        for i in 0..half {
            plain[2 * i + 1] = block[i];
            plain[2 * i] = block[half + i];
        }
        block.copy_from_slice(&plain);
    }
}

/// To the interleaved form.
pub fn weave(bytes: &mut [u8]) {
    let half = SMD_BLOCK as usize / 2;
    let mut woven = vec![0; SMD_BLOCK as usize];
    for block in bytes.chunks_exact_mut(SMD_BLOCK as usize) {
        for i in 0..half {
            woven[i] = block[2 * i + 1];
            woven[half + i] = block[2 * i];
        }
        block.copy_from_slice(&woven);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_order_is_undone() {
        let bytes: Vec<u8> = (0..SMD_BLOCK as usize * 2).map(|i| (i * 7 + i / 256) as u8).collect();
        for (there, back) in [
            (swap_pairs as fn(&mut [u8]), swap_pairs as fn(&mut [u8])),
            (swap_words, swap_words),
            (mirror_bits, mirror_bits),
            (weave, unweave),
        ] {
            let mut changed = bytes.clone();
            there(&mut changed);
            assert_ne!(changed, bytes);
            back(&mut changed);
            assert_eq!(changed, bytes);
        }
    }

    #[test]
    fn known_orders() {
        let mut word = [0x80, 0x37, 0x12, 0x40];
        swap_pairs(&mut word);
        assert_eq!(word, [0x37, 0x80, 0x40, 0x12]);
        let mut word = [0x80, 0x37, 0x12, 0x40];
        swap_words(&mut word);
        assert_eq!(word, [0x40, 0x12, 0x37, 0x80]);
        let mut block: Vec<u8> = vec![0; SMD_BLOCK as usize];
        (block[1], block[2], block[16383]) = (1, 2, 3);
        weave(&mut block);
        assert_eq!((block[0], block[8193], block[8191]), (1, 2, 3), "odd bytes first, then even ones");
    }
}
