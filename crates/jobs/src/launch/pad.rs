//! Joysticks by the kernel's own interface (Linux, `Documentation/input/joystick-api.rst`): events of 8 bytes, each with a time in
//! milliseconds (32 bits), a value (16 bits, signed), a type (1: button, 2: axis, 0x80 added for the state at the beginning)
//! and a number. Which button has which number follows from the keys that the device has: those from 0x120 on come first, in their
//! order, then those from 0x100 to 0x11f.

use crate::nearest;
use decanter_core::native;
use std::collections::BTreeSet;
use std::fs::File;
use std::io::{self, Read};
use std::path::{Path, PathBuf};
use std::sync::mpsc::{Receiver, channel};

/// Bytes of an event.
const EVENT: usize = 8;
/// Where the type and the number stand in it.
const TYPE: usize = 6;
const NUMBER: usize = 7;
const BUTTON: u8 = 1;
/// Joysticks that are looked for.
const MOST: usize = 32;
/// Keys of the kernel that are buttons of a pad (`Documentation/input/gamepad.rst`), by where or what they are.
const NAMES: [(&str, u16); 15] = [
    ("south", 0x130),
    ("east", 0x131),
    ("c", 0x132),
    ("north", 0x133),
    ("west", 0x134),
    ("z", 0x135),
    ("l1", 0x136),
    ("r1", 0x137),
    ("l2", 0x138),
    ("r2", 0x139),
    ("select", 0x13a),
    ("start", 0x13b),
    ("mode", 0x13c),
    ("l3", 0x13d),
    ("r3", 0x13e),
];
/// The first key that a button may have, the first that is counted, and the one after the last.
const KEYS: [u16; 3] = [0x100, 0x120, 0x300];

/// Buttons that are held together.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Chord(Vec<Button>);

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Button {
    Number(u8),
    Key(&'static str, u16),
}

/// Fails if a chord is none.
///
/// # Errors
/// What is wrong with it, in words.
pub fn check_chord(text: &str) -> Result<(), String> {
    Chord::parse(text).map(|_| ())
}

impl Chord {
    /// Reads one: names or numbers with `+` between them.
    ///
    /// # Errors
    /// What is wrong with it, in words.
    pub(super) fn parse(text: &str) -> Result<Self, String> {
        let buttons = text.split('+').map(|word| Self::button(word.trim())).collect::<Result<Vec<_>, _>>()?;
        match buttons.len() {
            // One button is pressed by accident.
            1 => Err(format!("\"{text}\" is one button: name two or more, as in select+start")),
            _ => Ok(Self(buttons)),
        }
    }

    fn button(word: &str) -> Result<Button, String> {
        if let Ok(number) = word.parse() {
            return Ok(Button::Number(number));
        }
        let known = || NAMES.iter().map(|(name, _)| *name);
        match NAMES.iter().find(|(name, _)| name.eq_ignore_ascii_case(word)) {
            Some((name, key)) => Ok(Button::Key(name, *key)),
            None => {
                let near = nearest(word, known()).map(|near| format!(": did you mean {near}?")).unwrap_or_default();
                let all = known().collect::<Vec<_>>().join(", ");
                Err(format!("there is no button \"{word}\"{near}; there are {all}, and numbers from 0 on"))
            }
        }
    }

    /// The numbers of its buttons on a device with these keys.
    fn numbers(&self, keys: &[u16]) -> Result<BTreeSet<u8>, String> {
        let number = |button: &Button| match button {
            Button::Number(number) => Ok(*number),
            Button::Key(name, key) => keys
                .iter()
                .position(|k| k == key)
                .and_then(|at| u8::try_from(at).ok())
                .ok_or_else(|| format!("it has no button that is called {name}")),
        };
        self.0.iter().map(number).collect()
    }

    /// Whether one of its buttons is meant by name.
    fn has_names(&self) -> bool {
        self.0.iter().any(|button| matches!(button, Button::Key(..)))
    }
}

/// A joystick that was opened.
pub(super) struct Pad {
    pub(super) path: PathBuf,
    file: File,
    chord: BTreeSet<u8>,
}

impl Pad {
    /// Opens the joystick that is meant, or the first one.
    ///
    /// # Errors
    /// Why there is none, and what to do.
    pub(super) fn open(wanted: Option<&Path>, chord: &Chord) -> Result<Self, (String, String)> {
        let path = match wanted {
            Some(path) => path.to_owned(),
            None => first().ok_or_else(|| {
                let hint =
                    "plug one in; or name it with --joystick; or start it without --quit (the script without a chord)";
                ("there is no joystick: nothing stands at /dev/input/js0 to js31".to_owned(), hint.to_owned())
            })?,
        };
        let shown = native::text(&path);
        let file = File::open(&path).map_err(|e| {
            (
                format!("the joystick \"{shown}\" cannot be opened: {e}"),
                "plug it in, or name another one with --joystick".into(),
            )
        })?;
        let keys = match chord.has_names() {
            false => Vec::new(),
            true => keys_of(&path).map_err(|e| {
                let hint = "give the buttons by their numbers, as in 6+7";
                (format!("which buttons \"{shown}\" has cannot be told: {e}"), hint.to_owned())
            })?,
        };
        let chord = chord.numbers(&keys).map_err(|why| {
            (format!("\"{shown}\": {why}"), "choose other buttons, or give them by their numbers, as in 6+7".to_owned())
        })?;
        Ok(Self { path, file, chord })
    }

    /// Listens on a thread of its own; something comes when all buttons of the chord are held, or the joystick is gone.
    pub(super) fn listen(mut self) -> Receiver<io::Result<()>> {
        let (give, take) = channel();
        std::thread::spawn(move || {
            // Whoever waits may have gone.
            let _ = give.send(held(&mut self.file, &self.chord));
        });
        take
    }
}

/// Reads events until all buttons of a chord are held.
fn held(events: &mut dyn Read, chord: &BTreeSet<u8>) -> io::Result<()> {
    let mut down = BTreeSet::new();
    let mut event = [0; EVENT];
    loop {
        events.read_exact(&mut event)?;
        // What is held at the beginning counts as well; it has a bit of its own.
        if event[TYPE] & 0x7f != BUTTON {
            continue;
        }
        match i16::from_le_bytes([event[4], event[5]]) {
            0 => down.remove(&event[NUMBER]),
            _ => down.insert(event[NUMBER]),
        };
        if chord.is_subset(&down) {
            return Ok(());
        }
    }
}

fn first() -> Option<PathBuf> {
    (0..MOST).map(|number| PathBuf::from(format!("/dev/input/js{number}"))).find(|path| path.exists())
}

/// The keys of a joystick in the order of its buttons' numbers.
fn keys_of(path: &Path) -> io::Result<Vec<u16>> {
    let name = path.file_name().unwrap_or_default();
    let bits = Path::new("/sys/class/input").join(name).join("device/capabilities/key");
    std::fs::read_to_string(bits).map(|text| numbered(&set_bits(&text, usize::BITS as usize / 8)))
}

/// The bits that are set in a map as the kernel writes it: words in hexadecimal digits, the highest first.
fn set_bits(text: &str, bytes_of_a_word: usize) -> BTreeSet<u16> {
    let mut set = BTreeSet::new();
    for (index, word) in text.split_whitespace().rev().enumerate() {
        let word = u64::from_str_radix(word, 16).unwrap_or(0);
        for bit in (0..64).filter(|bit| word >> bit & 1 == 1) {
            set.extend(u16::try_from(index * bytes_of_a_word * 8 + bit));
        }
    }
    set
}

/// Keys in the order in which their buttons are counted.
fn numbered(keys: &BTreeSet<u16>) -> Vec<u16> {
    let [first, counted, end] = KEYS;
    keys.range(counted..end).chain(keys.range(first..counted)).copied().collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn event(value: i16, kind: u8, number: u8) -> Vec<u8> {
        [&[1, 2, 3, 4][..], &value.to_le_bytes(), &[kind, number]].concat()
    }

    #[test]
    fn a_chord_is_two_buttons_by_name_or_number() {
        assert!(Chord::parse("Select+start").is_ok() && Chord::parse("6 + 7").is_ok());
        assert!(Chord::parse("start").unwrap_err().contains("is one button"));
        assert!(Chord::parse("slect+start").unwrap_err().contains("did you mean select?"));
        assert!(Chord::parse("start+").is_err() && Chord::parse("300+1").is_err());
    }

    #[test]
    fn it_is_held_when_all_its_buttons_are_down_at_once() {
        let chord = BTreeSet::from([6, 7]);
        let events = |list: &[(i16, u8, u8)]| list.iter().flat_map(|(v, k, n)| event(*v, *k, *n)).collect::<Vec<u8>>();
        let held = |list: &[(i16, u8, u8)]| held(&mut events(list).as_slice(), &chord).is_ok();
        assert!(held(&[(0, 0x81, 6), (1, 1, 6), (900, 2, 7), (1, 1, 3), (1, 1, 7)]));
        // One after the other is no chord, and an axis is no button.
        assert!(!held(&[(1, 1, 6), (0, 1, 6), (1, 1, 7)]));
        assert!(!held(&[(1, 1, 6), (1, 2, 7)]));
        // What was held at the beginning counts.
        assert!(held(&[(1, 0x81, 6), (1, 1, 7)]));
    }

    #[test]
    fn buttons_are_counted_as_the_kernel_counts_them() {
        // A pad with the keys 0x130, 0x131, 0x133, 0x134, 0x136, 0x137, 0x13a to 0x13e: words of 64 bits, the fifth from the end.
        let keys = numbered(&set_bits("7cdb000000000000 0 0 0 0", 8));
        assert_eq!(keys, [0x130, 0x131, 0x133, 0x134, 0x136, 0x137, 0x13a, 0x13b, 0x13c, 0x13d, 0x13e]);
        assert_eq!(Chord::parse("select+start").unwrap().numbers(&keys), Ok(BTreeSet::from([6, 7])));
        assert_eq!(Chord::parse("select+l2").unwrap().numbers(&keys), Err("it has no button that is called l2".into()));
        // Keys below 0x120 come last.
        assert_eq!(numbered(&BTreeSet::from([0x101, 0x120, 0x2c0])), [0x120, 0x2c0, 0x101]);
    }
}
