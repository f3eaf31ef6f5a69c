//! Commands that are printed work when they are pasted.

use decanter_core::native;
use decanter_core::os::{self, Shell};

/// A name in a command as a shell takes it: never an option, whatever it begins with.
pub fn quoted(name: &str) -> String {
    if name.starts_with('-') { typed(&format!("./{name}")) } else { typed(name) }
}

/// A word of a command, which may be an option, as a shell takes it.
pub fn typed(word: &str) -> String {
    typed_in(word, os::SHELL)
}

fn typed_in(word: &str, shell: Shell) -> String {
    let separators = if shell == Shell::Windows { "\\-_./:=+@" } else { "-_./:=,+@%" };
    if !word.is_empty() && word.chars().all(|c| c.is_alphanumeric() || separators.contains(c)) {
        return word.to_owned();
    }
    match shell {
        Shell::Posix if word.chars().any(|c| c.is_control() || native::byte(c).is_some()) => {
            // Only this form can name characters that do not show, and bytes that are none.
            let told: String = word.chars().map(escaped).collect();
            format!("$'{told}'")
        }
        Shell::Posix if word.contains(['"', '$', '`', '\\', '!']) => format!("'{}'", word.replace('\'', "'\\''")),
        // No name there has a double quote; a dollar or a backquote means something in the newer of its shells alone,
        // which has quotes for that.
        Shell::Windows if word.contains(['$', '`', '"']) => format!("'{}'", word.replace('\'', "''")),
        Shell::Posix | Shell::Windows => format!("\"{word}\""),
    }
}

fn escaped(c: char) -> String {
    match c {
        '\'' => "\\'".into(),
        '\\' => "\\\\".into(),
        c if native::byte(c).is_some() => native::byte(c).map(|b| format!("\\x{b:02x}")).unwrap_or_default(),
        c if c.is_control() => c.to_string().bytes().map(|b| format!("\\x{b:02x}")).collect(),
        c => c.into(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn words_are_quoted_as_a_shell_takes_them() {
        let typed = |word: &str| typed_in(word, Shell::Posix);
        assert_eq!(typed("a/b-1.iso"), "a/b-1.iso");
        assert_eq!(typed("Kelp Courier.iso"), "\"Kelp Courier.iso\"");
        assert_eq!(typed("a'$b"), "'a'\\''$b'");
        assert_eq!(typed(""), "\"\"");
        assert_eq!(quoted("-x y.iso"), "\"./-x y.iso\"");
        assert_eq!(typed("a\n\u{1b}'.iso"), "$'a\\x0a\\x1b\\'.iso'");
    }

    #[test]
    fn bytes_that_are_no_text_are_named() {
        assert_eq!(typed_in(&native::of_bytes(b"caf\xe9 1.d64"), Shell::Posix), "$'caf\\xe9 1.d64'");
    }

    #[test]
    fn the_shells_of_windows_have_their_own_ways() {
        let words = ["C:\\dumps\\a-1.iso", "Kelp Courier.iso", "100%.iso", "a'$b", "a,b"];
        let told = words.map(|word| typed_in(word, Shell::Windows));
        assert_eq!(told, ["C:\\dumps\\a-1.iso", "\"Kelp Courier.iso\"", "\"100%.iso\"", "'a''$b'", "\"a,b\""]);
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(40))]
        #[test]
        fn a_shell_gives_the_word_back(word in "[ -~\u{e9}\n\u{1b}]{1,12}") {
            let want = if word.starts_with('-') { format!("./{word}") } else { word };
            let command = format!("printf %s {}", typed_in(&want, Shell::Posix));
            let out = std::process::Command::new("bash").args(["-c", &command]).output();
            // There may be no such shell here.
            if let Ok(out) = out {
                prop_assert_eq!(String::from_utf8_lossy(&out.stdout), want);
            }
        }
    }
}
