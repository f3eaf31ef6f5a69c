//! The desktop entry (freedesktop Desktop Entry Specification 1.5).

use std::path::Path;

/// What an entry says.
pub(super) struct Entry<'a> {
    pub(super) name: &'a str,
    pub(super) comment: Option<&'a str>,
    pub(super) icon: Option<&'a Path>,
    /// The script: whole, or only its name where it stands beside the entry.
    pub(super) script: &'a str,
    pub(super) is_absolute: bool,
}

/// A value's backslashes are doubled.
fn value(text: &str) -> String {
    text.replace('\\', "\\\\")
}

/// A word of a command, quoted: some signs have a backslash in it, and a percent sign stands twice.
fn quoted(text: &str) -> String {
    let sign = |c: char| match c {
        '"' | '`' | '$' | '\\' => vec!['\\', c],
        '%' => vec!['%', '%'],
        c => vec![c],
    };
    format!("\"{}\"", text.chars().flat_map(sign).collect::<String>())
}

/// The text of an entry.
pub(super) fn text(entry: &Entry<'_>) -> String {
    let mut text = format!("[Desktop Entry]\nType=Application\nVersion=1.5\nName={}\n", value(entry.name));
    if let Some(comment) = entry.comment {
        text.push_str(&format!("Comment={}\n", value(comment)));
    }
    if let Some(icon) = entry.icon {
        text.push_str(&format!("Icon={}\n", value(&icon.to_string_lossy())));
    }
    let exec = match entry.is_absolute {
        true => quoted(entry.script),
        // The front end says where the entry stands (%k); the script stands beside it.
        false => {
            let script = entry.script.replace('\'', "'\\''");
            let line = format!("exec \"$(dirname -- \"${{1#file://}}\")\"/'{script}'");
            format!("sh -c {} sh %k", quoted(&line))
        }
    };
    text.push_str(&format!("Exec={}\nTerminal=false\nCategories=Game;\n", value(&exec)));
    text
}

#[cfg(test)]
mod tests {
    use super::*;

    fn exec(script: &str, is_absolute: bool) -> String {
        let entry = Entry { name: "A \\ B", comment: None, icon: None, script, is_absolute };
        let text = text(&entry);
        assert!(text.contains("Name=A \\\\ B\n"));
        text.lines().find_map(|line| line.strip_prefix("Exec=")).unwrap().to_owned()
    }

    #[test]
    fn commands_are_quoted_as_entries_want_it() {
        assert_eq!(exec("/x/100% \"a\".sh", true), "\"/x/100%% \\\\\"a\\\\\".sh\"");
        assert_eq!(
            exec("Fog bell.sh", false),
            r#"sh -c "exec \\"\\$(dirname -- \\"\\${1#file://}\\")\\"/'Fog bell.sh'" sh %k"#
        );
    }
}
