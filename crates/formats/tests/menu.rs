//! The start program of a disk, run in the simulated processor: what it prints, what it loads, and how that is started. Calls of
//! the KERNAL and of BASIC are answered here as their documentation says.

use decanter_formats::disk::cbm::machine::Machine;
use decanter_formats::disk::cbm::menu::{Entry, PAGE, program};

/// What a run came to.
#[derive(Debug, PartialEq, Eq)]
enum End {
    /// BASIC runs what was loaded; it ends at this address.
    Run(u16),
    /// The processor goes on here.
    Jump(u16),
    /// BASIC tells this error.
    Error(u8),
    /// It goes back to BASIC.
    Back,
}

struct Run {
    end: End,
    printed: Vec<u8>,
    /// Name, device and secondary address of what was loaded.
    loaded: Option<(Vec<u8>, u8, u8)>,
}

/// Runs a menu; `keys` are pressed one after the other, `disk` holds programs.
fn run(menu: &[u8], keys: &[u8], device: u8, disk: &[(&[u8], Vec<u8>)]) -> Run {
    let mut machine = Machine::with_program(menu).unwrap();
    machine.ram[0xba] = device;
    (machine.ram[0x2b], machine.ram[0x2c]) = (0x01, 0x08);
    // Whoever called SYS goes on at $A7AE: an address of its own tells that apart from RUN.
    (machine.ram[0x01f7], machine.ram[0x01f8]) = (0xff, 0xbf);
    let mut keys = keys.iter().copied().chain(std::iter::repeat(0));
    let (mut printed, mut loaded) = (Vec::new(), None);
    let (mut name, mut file) = (Vec::new(), (0, 0));
    for _ in 0..200_000 {
        let back = |machine: &mut Machine| {
            let low = machine.ram[0x100 + usize::from(machine.sp.wrapping_add(1))];
            let high = machine.ram[0x100 + usize::from(machine.sp.wrapping_add(2))];
            machine.sp = machine.sp.wrapping_add(2);
            machine.pc = u16::from_le_bytes([low, high]).wrapping_add(1);
        };
        match machine.pc {
            0xffd2 => {
                printed.push(machine.a);
                back(&mut machine);
            }
            0xffe4 => {
                machine.a = keys.next().unwrap();
                back(&mut machine);
            }
            0xffbd => {
                let at = usize::from(u16::from_le_bytes([machine.x, machine.y]));
                name = machine.ram[at..at + usize::from(machine.a)].to_vec();
                back(&mut machine);
            }
            0xffba => {
                file = (machine.x, machine.y);
                back(&mut machine);
            }
            0xffd5 => {
                assert_eq!(machine.a, 0, "it loads, and does not compare");
                loaded = Some((name.clone(), file.0, file.1));
                match disk.iter().find(|(own, _)| *own == name) {
                    Some((_, bytes)) => {
                        let own = u16::from_le_bytes([bytes[0], bytes[1]]);
                        let at = if file.1 == 0 { u16::from_le_bytes([machine.x, machine.y]) } else { own };
                        let (from, len) = (usize::from(at), bytes.len() - 2);
                        machine.ram[from..from + len].copy_from_slice(&bytes[2..]);
                        [machine.x, machine.y] = (at + len as u16).to_le_bytes();
                        machine.p &= !1;
                    }
                    None => {
                        machine.a = 4;
                        machine.p |= 1;
                    }
                }
                back(&mut machine);
            }
            0xa533 | 0xa659 => back(&mut machine),
            0xa7ae => {
                let end = End::Run(u16::from_le_bytes([machine.ram[0x2d], machine.ram[0x2e]]));
                return Run { end, printed, loaded };
            }
            0xa437 => return Run { end: End::Error(machine.x), printed, loaded },
            0xc000 if loaded.is_none() => return Run { end: End::Back, printed, loaded },
            pc if loaded.is_some() && !(0x033c..0x03fc).contains(&pc) => {
                return Run { end: End::Jump(pc), printed, loaded };
            }
            _ => {
                machine.step().unwrap();
            }
        }
    }
    panic!("it runs on at {:#06x}", machine.pc);
}

fn basic(len: usize) -> Vec<u8> {
    [vec![0x01, 0x08], vec![0x99; len]].concat()
}

fn entry(name: &[u8], content: &[u8]) -> Entry {
    Entry::of(name, content).unwrap()
}

#[test]
fn a_program_of_basic_is_loaded_over_the_menu_and_run() {
    let disk: [(&[u8], Vec<u8>); 2] =
        [(b"KELP DASH", basic(30_000)), (b"FOGBELL", [&[0, 0xc0][..], &[0x60; 99]].concat())];
    let menu = program("Saltmarsh", &disk.each_ref().map(|(name, content)| entry(name, content)));
    let ran = run(&menu, b"?Z A", 9, &disk);
    assert_eq!(ran.end, End::Run(0x0801 + 30_000));
    assert_eq!(
        ran.loaded,
        Some((b"KELP DASH".to_vec(), 9, 0)),
        "from the drive that was used last, to the start of BASIC"
    );
    let shown = String::from_utf8(ran.printed).unwrap_or_default();
    assert!(shown.is_empty() || shown.contains(" A  KELP DASH\r B  FOGBELL\r"), "{shown}");
    // One in the language of the machine is loaded where it belongs, and gone on with there.
    let ran = run(&menu, b"B", 8, &disk);
    assert_eq!((ran.end, ran.loaded), (End::Jump(0xc000), Some((b"FOGBELL".to_vec(), 8, 1))));
    // From the tape, the first drive is meant.
    assert_eq!(run(&menu, b"A", 1, &disk).loaded.unwrap().1, 8);
}

#[test]
fn what_is_printed_is_the_list_and_nothing_that_moves_the_screen() {
    let odd = [0x93, b'A', 0x0d, 0xc1];
    let menu = program("Tide & Table", &[entry(&odd, &basic(5)), entry(b"SIXTEEN SIGNS 16", &basic(5))]);
    let printed = run(&menu, b"\x03", 8, &[]).printed;
    assert_eq!(printed[..3], [0x93, 0x0d, b' ']);
    let text: Vec<u8> = printed[3..].to_vec();
    let wanted = [&b"TIDE & TABLE\r\r A  ?A?\xc1\r B  SIXTEEN SIGNS 16\r\r\r"[..]].concat();
    assert_eq!(text, wanted);
    assert_eq!(run(&menu, b"\x03", 8, &[]).end, End::Back);
}

#[test]
fn pages_turn_around_and_letters_are_those_of_the_page() {
    let names: Vec<Vec<u8>> = (0..PAGE * 2 + 3).map(|n| format!("GAME {n}").into_bytes()).collect();
    let entries: Vec<Entry> = names.iter().map(|name| entry(name, &basic(9))).collect();
    let disk: Vec<(&[u8], Vec<u8>)> = names.iter().map(|name| (name.as_slice(), basic(9))).collect();
    let menu = program("Many", &entries);
    let loaded = |keys: &[u8]| String::from_utf8(run(&menu, keys, 8, &disk).loaded.unwrap().0).unwrap();
    assert_eq!(
        (loaded(b"A"), loaded(b"T"), loaded(b" B"), loaded(b"  C")),
        ("GAME 0".into(), "GAME 19".into(), "GAME 21".into(), "GAME 42".into())
    );
    // Behind the last one there is none: the key is waited for again. The page after the last one is the first.
    assert_eq!((loaded(b"  D A"), loaded(b"   A")), ("GAME 0".into(), "GAME 0".into()));
}

#[test]
fn what_is_not_on_the_disk_is_told_by_the_machine() {
    let menu = program("x", &[entry(b"GONE", &basic(5))]);
    assert_eq!(run(&menu, b"A", 8, &[]).end, End::Error(4));
}

#[test]
fn what_would_load_over_the_loader_is_not_listed() {
    let over = |load: u16, len: usize| Entry::of(b"X", &[load.to_le_bytes().to_vec(), vec![0; len]].concat());
    assert!(over(0x0326, 100).unwrap_err().contains("over what would load it"));
    assert!(over(0x0200, 0x0140).is_err() && over(0x0100, 9).is_err() && Entry::of(b"X", &[1]).is_err());
    assert!(over(0x0400, 1000).is_ok() && over(0x02a7, 0x033c - 0x02a7).is_ok());
}
