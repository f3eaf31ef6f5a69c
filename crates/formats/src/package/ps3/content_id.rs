//! Content ids: `UP0001-DCNT10001_00-KELPCOURIER00000`: service and publisher, title id, number, label.

/// Characters of a content id.
pub const LEN: usize = 36;
/// What a content id consists of: name, from, to, and what stands behind it.
const PARTS: [(&str, usize, usize, &str); 5] = [
    ("region", 0, 2, ""),
    ("publisher", 2, 6, "-"),
    ("title id", 7, 16, "_"),
    ("number", 17, 19, "-"),
    ("label", 20, 36, ""),
];

/// Text up to the first zero; what is no ASCII is replaced.
pub(crate) fn text(bytes: &[u8]) -> String {
    let end = bytes.iter().position(|&b| b == 0).unwrap_or(bytes.len());
    let plain = |&b: &u8| if b.is_ascii_graphic() || b == b' ' { char::from(b) } else { '\u{fffd}' };
    bytes[..end].iter().map(plain).collect()
}

/// The title id in a content id.
pub fn title_id(id: &str) -> Option<&str> {
    let (title, before) = (id.get(7..16)?, id.get(6..7)?);
    (before == "-" && title.bytes().all(|b| b.is_ascii_alphanumeric())).then_some(title)
}

/// What is wrong with a content id, in words; `None` if it is one.
pub fn fault(id: &str) -> Option<String> {
    if id.len() != LEN || !id.is_ascii() {
        return Some(format!(
            "a content id has 36 characters, as UP0001-DCNT10001_00-KELPCOURIER00000; this one has {}",
            id.chars().count()
        ));
    }
    for (name, from, to, behind) in PARTS {
        let part = &id[from..to];
        let fits = part.bytes().all(|b| match name {
            "region" => b.is_ascii_uppercase(),
            "number" => b.is_ascii_digit(),
            _ => b.is_ascii_uppercase() || b.is_ascii_digit(),
        });
        if !fits {
            let signs = match name {
                "region" => "capital letters",
                "number" => "digits",
                _ => "capital letters and digits",
            };
            return Some(format!("its {name}, \"{part}\", has other signs than {signs}"));
        }
        if !id[to..].starts_with(behind) {
            return Some(format!("behind its {name}, \"{part}\", there is no \"{behind}\""));
        }
    }
    None
}

/// A content id made of a title id and a title; always the same for the same ones. `None` if the title id is not 9
/// letters and digits.
pub fn derived(title_id: &str, title: &str) -> Option<String> {
    let title_id = title_id.to_ascii_uppercase();
    if title_id.len() != 9 || !title_id.bytes().all(|b| b.is_ascii_alphanumeric()) {
        return None;
    }
    let region = match title_id.as_bytes()[2] {
        b'E' => "EP",
        b'J' | b'P' => "JP",
        b'K' => "KP",
        b'H' | b'A' => "HP",
        _ => "UP",
    };
    let label: String = title.chars().filter(char::is_ascii_alphanumeric).take(16).collect();
    Some(format!("{region}0000-{title_id}_00-{:0<16}", label.to_ascii_uppercase()))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn faults_name_their_part() {
        assert_eq!(fault("UP0001-DCNT10001_00-KELPCOURIER00000"), None);
        let says = |id: &str, words: &str| assert!(fault(id).unwrap().contains(words), "{id}: {:?}", fault(id));
        says("UP0001-DCNT10001_00-KELPCOURIER0000", "has 35");
        says("U10001-DCNT10001_00-KELPCOURIER00000", "region, \"U1\"");
        says("UP000x-DCNT10001_00-KELPCOURIER00000", "publisher");
        says("UP0001_DCNT10001_00-KELPCOURIER00000", "behind its publisher");
        says("UP0001-DCNT1000l_00-KELPCOURIER00000", "title id");
        says("UP0001-DCNT10001_0O-KELPCOURIER00000", "number, \"0O\"");
        says("UP0001-DCNT10001_00-KELPCOURIER0000!", "label");
    }

    #[test]
    fn one_is_made_of_title_id_and_title() {
        assert_eq!(derived("dcnt10001", "Kelp Courier").unwrap(), "UP0000-DCNT10001_00-KELPCOURIER00000");
        assert_eq!(
            derived("DCES10001", "Brine & Bramble: The Long Tide").unwrap(),
            "EP0000-DCES10001_00-BRINEBRAMBLETHEL"
        );
        assert_eq!((derived("DCNT1000", "x"), derived("DCNT-1000", "x")), (None, None));
        assert_eq!(title_id("UP0000-DCNT10001_00-"), Some("DCNT10001"));
        assert_eq!((title_id("UP0000DCNT10001_00"), title_id("short")), (None, None));
        assert_eq!(text(b"ab\xff\0cd"), "ab\u{fffd}");
    }

    proptest! {
        #[test]
        fn what_is_derived_is_one(id in "[A-Za-z0-9]{9}", title in "\\PC{0,40}") {
            let made = derived(&id, &title).unwrap();
            prop_assert_eq!(fault(&made), None);
            let upper = id.to_ascii_uppercase();
            prop_assert_eq!(title_id(&made), Some(upper.as_str()));
        }

        #[test]
        fn any_text_has_a_fault_or_none(id in "\\PC{0,50}") {
            let _ = (fault(&id), title_id(&id));
        }
    }
}
