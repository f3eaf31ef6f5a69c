//! The hashes of names by which large folders are in order.

/// The hash of a name; `None` for a version that is not known.
pub(super) fn of(version: u8, is_signed: bool, seed: [u32; 4], name: &[u8]) -> Option<u32> {
    const DEFAULT: [u32; 4] = [0x6745_2301, 0xefcd_ab89, 0x98ba_dcfe, 0x1032_5476];
    let mut state = if seed == [0; 4] { DEFAULT } else { seed };
    let hash = match version {
        0 => legacy(name, is_signed),
        1 => {
            for part in parts(name, 32) {
                half_md4(&mut state, &words(part, is_signed));
            }
            state[1]
        }
        2 => {
            for part in parts(name, 16) {
                tea(&mut state, &words(part, is_signed));
            }
            state[0]
        }
        _ => return None,
    };
    // The last value stands for the end of a folder.
    Some(match hash & !1 {
        0xffff_fffe => 0xffff_fffc,
        hash => hash,
    })
}

/// What is left of the name at every step: the length of all that is left fills up the last part.
fn parts(name: &[u8], step: usize) -> impl Iterator<Item = &[u8]> {
    (0..name.len()).step_by(step).map(|at| &name[at..])
}

fn value(byte: u8, is_signed: bool) -> u32 {
    if is_signed { i32::from(byte.cast_signed()).cast_unsigned() } else { byte.into() }
}

fn words<const N: usize>(left: &[u8], is_signed: bool) -> [u32; N] {
    let len = left.len() as u32;
    let pad = len | len << 8;
    let pad = pad | pad << 16;
    let mut words = [pad; N];
    for (word, bytes) in words.iter_mut().zip(left.chunks(4)) {
        *word = bytes.iter().fold(pad, |all, b| (all << 8).wrapping_add(value(*b, is_signed)));
    }
    words
}

fn legacy(name: &[u8], is_signed: bool) -> u32 {
    let (mut now, mut before) = (0x12a3_fe2d_u32, 0x37ab_e8f9_u32);
    for byte in name {
        let step = value(*byte, is_signed).wrapping_mul(7_152_373);
        let mut hash = before.wrapping_add(now ^ step);
        if hash & 0x8000_0000 != 0 {
            hash = hash.wrapping_sub(0x7fff_ffff);
        }
        (before, now) = (now, hash);
    }
    now << 1
}

fn half_md4(state: &mut [u32; 4], words: &[u32; 8]) {
    type Mix = fn(u32, u32, u32) -> u32;
    const ROUNDS: [(Mix, u32, [u32; 4], [usize; 8]); 3] = [
        (|x, y, z| z ^ (x & (y ^ z)), 0, [3, 7, 11, 19], [0, 1, 2, 3, 4, 5, 6, 7]),
        (|x, y, z| (x & y).wrapping_add((x ^ y) & z), 0x5a82_7999, [3, 5, 9, 13], [1, 3, 5, 7, 0, 2, 4, 6]),
        (|x, y, z| x ^ y ^ z, 0x6ed9_eba1, [3, 9, 11, 15], [3, 7, 2, 6, 1, 5, 0, 4]),
    ];
    let mut s = *state;
    for (mix, constant, shifts, order) in ROUNDS {
        for (step, word) in order.into_iter().enumerate() {
            let [a, b, c, d] = [0, 1, 2, 3].map(|i| (i + 8 - step) % 4);
            let sum = s[a].wrapping_add(mix(s[b], s[c], s[d])).wrapping_add(words[word]).wrapping_add(constant);
            s[a] = sum.rotate_left(shifts[step % 4]);
        }
    }
    for (state, s) in state.iter_mut().zip(s) {
        *state = state.wrapping_add(s);
    }
}

fn tea(state: &mut [u32; 4], words: &[u32; 4]) {
    let (mut sum, mut b0, mut b1) = (0u32, state[0], state[1]);
    for _ in 0..16 {
        sum = sum.wrapping_add(0x9e37_79b9);
        let step = |b: u32, x: u32, y: u32| (b << 4).wrapping_add(x) ^ b.wrapping_add(sum) ^ (b >> 5).wrapping_add(y);
        b0 = b0.wrapping_add(step(b1, words[0], words[1]));
        b1 = b1.wrapping_add(step(b0, words[2], words[3]));
    }
    state[0] = state[0].wrapping_add(b0);
    state[1] = state[1].wrapping_add(b1);
}

#[cfg(test)]
mod tests {
    use super::of;

    #[test]
    fn names_hash_as_a_general_tool_hashes_them() {
        let long = b"hello_world_this_is_a_long_name_with_more_than_32_chars";
        for (name, hashes) in
            [(&b"a"[..], [0xe74b_53e2, 0xd5fa_7d7a, 0x6d0e_a4c0]), (long, [0x58ee_24ba, 0x24d1_0ca2, 0xe9a7_7a92])]
        {
            for (version, hash) in (0..).zip(hashes) {
                assert_eq!(of(version, true, [0; 4], name), Some(hash), "version {version}");
                assert_eq!(of(version, false, [0; 4], name), Some(hash), "these letters have no sign");
            }
        }
        assert_eq!(of(6, false, [0; 4], b"a"), None);
        assert_ne!(of(1, true, [0; 4], "é".as_bytes()), of(1, false, [0; 4], "é".as_bytes()));
    }
}
