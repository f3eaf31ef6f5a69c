//! RSA with keys of 2,048 bits that the user brings (PKCS #1, version 1.5): what a console reads of a package is under them.

use crate::package::sha256;
use decanter_core::keyring::Key;
use num_bigint::BigUint;

/// Bytes of a modulus, and of all that is under it.
const LEN: usize = 256;
/// The public exponent.
const EXPONENT: u32 = 65_537;
/// Bytes around what is wrapped, at least.
const AROUND: usize = 11;
/// What a key in a ring has to be, in words.
pub(super) const FORM: &str = "256 bytes of a modulus, or 512 with the private exponent behind it";

/// A modulus, and the private exponent where it is known.
pub(super) struct Pair {
    modulus: BigUint,
    private: Option<BigUint>,
}

impl Pair {
    /// The key of a ring; `None` where it cannot be one.
    pub(super) fn new(key: &Key) -> Option<Self> {
        let number = |bytes: &[u8]| BigUint::from_bytes_be(bytes);
        let (modulus, private) = match key.bytes() {
            bytes if bytes.len() == LEN => (number(bytes), None),
            bytes if bytes.len() == 2 * LEN => (number(&bytes[..LEN]), Some(number(&bytes[LEN..]))),
            _ => return None,
        };
        // A product of two primes is odd, and one of this length fills it.
        (modulus.bit(0) && modulus.bits() == 8 * LEN as u64).then_some(Self { modulus, private })
    }

    /// A few bytes under the modulus. The padding is made of them, so that the same bytes become the same.
    pub(super) fn wrap(&self, bytes: &[u8]) -> Vec<u8> {
        let mut padded = vec![0, 2];
        let mut counter = 0u32;
        let wanted = LEN - bytes.len() - 1;
        while padded.len() < wanted {
            let more = sha256(&[&counter.to_be_bytes()[..], bytes].concat());
            padded.extend(more.iter().filter(|b| **b != 0).take(wanted - padded.len()));
            counter += 1;
        }
        padded.push(0);
        padded.extend(bytes);
        let number = BigUint::from_bytes_be(&padded).modpow(&EXPONENT.into(), &self.modulus);
        full(&number)
    }

    /// What was wrapped; `None` without the private exponent, and where it is not under this modulus.
    pub(super) fn unwrap(&self, wrapped: &[u8]) -> Option<Key> {
        let number = BigUint::from_bytes_be(wrapped).modpow(self.private.as_ref()?, &self.modulus);
        let padded = Key::new(full(&number));
        let (front, rest) = padded.bytes().split_at(2);
        let end = rest.iter().position(|b| *b == 0)?;
        (front == [0, 2] && end + 3 >= AROUND).then(|| Key::new(rest[end + 1..].to_vec()))
    }
}

/// A number with zeros in front of it.
fn full(number: &BigUint) -> Vec<u8> {
    let bytes = number.to_bytes_be();
    [vec![0; LEN.saturating_sub(bytes.len())], bytes].concat()
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A key that `openssl genrsa 2048` made for this test; what openssl unwraps of ours was compared while this was written,
    /// and this is what `openssl pkeyutl -encrypt` made of 32 bytes of 7.
    const MODULUS: &str = "ac6b8a0f0079a3ac1ffd98e551e3614ba61a375e5e34b92a735bfd7e69ff0bae4f39f1084693497df2b9259d0658546ad5726d6dbe19f2baab324ad767e8d2c76eb5a1f3752d57fed17af5c4ea77208a3f7e4cfb61574e92f1b556cc193928417bdad054e5c757703ce763031850a6d779357372d366a6ea703f1b52c58a067fe5207a4f02756d23fc71a74dd9264960ae2622ec7dbcf755f607be3caab75018b1c009070fc6ede14d068c37cb8894b7eab52347d8f96f972687f06ffbb97cf37c0907187bcddcbd84d7f96f23920ccedc67f45be0d5c5c2ba12fd918fa84b349a8ea36569c8f7ac70094daab9e126a25c31c98c2b9cecf0588ab6aead2141df";
    const PRIVATE: &str = "305903608b88905daea6c4dde0e57a9de4d8cb17da20bc9f6bb3aad46cd288aafb2a4b2d3fe503219f134db9c752b37135a31d8e3d55375c22af3a8f4662e1dfec6a601c4d8a46777cb417007da2a3ec403ba14888161c415627bc4c04f2a31821abcce95179614a66b9976901c373d54df6b005cdc3a6206d13350d33b92d72ef6ffea8ee7245afa63ed7d01ebfe0ad221847ee2a8b46a1ec8b5cc3b4ac826898b6106d82a08b254199dc76b16855e98fb5521449e4d55b212b81c289ef47819a52a449cc4b467766a1f9889c792e9cbbde0d329b0290eddd374eb43f557d110391ffdec581529b2f42f6af50b4f03915d81e7b19c13a1683cbf4dedeceaaf1";
    const WRAPPED: &str = "5c4d1101be11c2650172b1523e30cef0bb66b30f398e6a7b88c39a52341cdd1fa5e880e98b2d73c3cce723a7cf37b5e8a6dbf6e1cb1ace8bf03cf70bbd149e25758484aef8b3707c1a1b4969c51322614cf9e5fbcaa6f0573df15841d91032e68ac2e47138fe9811430c91930f787d3e1ea3cfefb49ed709cc5bb80fb00606a7517e89cc2ba36790edb76c16c5542f3eb8eb174742896fba7640ae424ec8f053ea9f95828baa0a134c037bc1492542acb768f8124dc415ac2ae21d0dbd47fd92899676e24c0967897dc6bb19d52a04c26aeb392283d8b96742c29f20a5206c5bc45194f2478a90c371bd719a6fb36deec2a9c03409b3edbf4796d1ada5150f4e";

    fn key(digits: &str) -> Key {
        Key::from_hex(digits).unwrap()
    }

    #[test]
    fn what_was_wrapped_elsewhere_comes_out_and_so_does_our_own() {
        let pair = Pair::new(&key(&format!("{MODULUS}{PRIVATE}"))).unwrap();
        assert_eq!(pair.unwrap(key(WRAPPED).bytes()).unwrap().bytes(), [7; 32]);
        let own = pair.wrap(&[9; 32]);
        assert_eq!((own.len(), &own), (256, &pair.wrap(&[9; 32])), "the same every time");
        assert_eq!(pair.unwrap(&own).unwrap().bytes(), [9; 32]);
        let mut other = own;
        other[200] ^= 1;
        assert!(pair.unwrap(&other).is_none_or(|key| key.bytes() != [9; 32]));
        let public = Pair::new(&key(MODULUS)).unwrap();
        assert!(public.unwrap(key(WRAPPED).bytes()).is_none(), "not without the private exponent");
    }

    #[test]
    fn what_cannot_be_a_modulus_is_none() {
        assert!(Pair::new(&Key::new(vec![0xff; 255])).is_none());
        assert!(Pair::new(&Key::new([vec![0xff; 255], vec![0xfe]].concat())).is_none(), "even");
        assert!(Pair::new(&Key::new([vec![0], vec![0xff; 255]].concat())).is_none(), "short");
    }
}
