//! Names of merged files and of what they are taken apart into: they say what is in them, and every card takes them.

use super::Form;
use crate::family::{Family, Member};
use decanter_core::names::file_name;
use decanter_core::opened::TitlePart;

/// The longest title in a name, in characters: room is left for what stands behind it.
const MOST_TITLE: usize = 100;

/// A title as it can stand in a name on any card: signs that some file systems keep for themselves are left out.
fn plain(title: &str) -> String {
    let kept: String = title.chars().filter(|c| !c.is_control() && !r#"<>:"/\|?*[]"#.contains(*c)).collect();
    let words: Vec<&str> = kept.split_whitespace().collect();
    words.join(" ").chars().take(MOST_TITLE).collect::<String>().trim_end_matches(['.', ' ']).to_owned()
}

fn with_title(title: Option<&str>, rest: &str) -> String {
    match title.map(plain).filter(|t| !t.is_empty()) {
        Some(title) => file_name(&format!("{title} {rest}")),
        None => file_name(rest),
    }
}

/// `Title [BASEID] [vN] (1 base, 1 update, 3 add-ons).xci`
pub(super) fn merged(family: &Family, form: Form) -> String {
    let version = family.chosen().filter(|m| m.title.part != TitlePart::AddOn).map(|m| m.title.version).max();
    let version = version.unwrap_or_default();
    let rest = format!("[{}] [v{version}] ({}).{}", family.id, family.counts(), form.id());
    with_title(family.name.as_deref(), &rest)
}

/// `Title [ID] [vN] (add-on 3).nsp`
pub(super) fn single(title: Option<&str>, member: &Member) -> String {
    let part = match (member.title.part, member.title.number) {
        (TitlePart::Program, _) => "base".to_owned(),
        (TitlePart::Update, _) => "update".to_owned(),
        (_, Some(number)) => format!("add-on {number}"),
        _ => "other".to_owned(),
    };
    with_title(title, &format!("[{}] [v{}] ({part}).nsp", member.title.id, member.title.version))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn titles_fit_on_any_card() {
        assert_eq!(plain("Brine & Bramble: \"Deep\"/Water?"), "Brine & Bramble DeepWater");
        assert_eq!(plain("  Fogbell...  "), "Fogbell");
        assert_eq!(plain(&"x".repeat(300)).len(), MOST_TITLE);
        assert_eq!(with_title(Some("???"), "[1] (1 base).nsp"), "[1] (1 base).nsp");
    }
}
