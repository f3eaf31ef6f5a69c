//! Texts that people write for us, in TOML: recipes, plans, descriptions, the configuration. What is wrong with one is told
//! in one line, in words that fit whoever wrote it.

use crate::nearest;
use serde::de::DeserializeOwned;

/// What a text says.
///
/// # Errors
/// Why it does not say that, with its line. What stands in the line is not told: it may be nobody else's business.
pub fn parse<T: DeserializeOwned>(text: &str) -> Result<T, String> {
    toml::from_str(text).map_err(|e| {
        let begins = |start: usize| text.as_bytes()[..start.min(text.len())].iter();
        let line = e.span().map(|s| begins(s.start).filter(|b| **b == b'\n').count() + 1);
        let line = line.map(|l| format!("line {l}: ")).unwrap_or_default();
        format!("{line}{}", told(&e.message().replace('\n', " ")))
    })
}

/// What the parser says, in our words where that is worth it: nothing but the sentence hangs on how it begins.
fn told(message: &str) -> String {
    let unknown = message.strip_prefix("unknown field `").or_else(|| message.strip_prefix("unknown variant `"));
    if let Some((name, rest)) = unknown.and_then(|m| m.split_once('`')) {
        let known: Vec<&str> = rest.split('`').skip(1).step_by(2).collect();
        let what = if message.starts_with("unknown field") { "there is no field" } else { "there is no choice" };
        return format!("{what} \"{name}\" here; {}", nearest_or_all(name, &known));
    }
    match message.rsplit_once("expected ") {
        Some((before, kind)) => format!("{before}expected {}", kind_in_words(kind)),
        None => message.to_owned(),
    }
}

/// A kind of value that only a programmer knows, as people call it.
fn kind_in_words(kind: &str) -> &str {
    match kind {
        "u8" => "a whole number from 0 to 255",
        "u16" => "a whole number from 0 to 65535",
        "u32" | "u64" | "usize" | "i64" | "i32" => "a whole number",
        "f64" | "f32" => "a number",
        "a string" => "text in quotes",
        "a boolean" => "true or false",
        "a sequence" => "a list in brackets",
        kind => kind,
    }
}

/// The known name that is nearest, or all of them.
pub(crate) fn nearest_or_all(name: &str, known: &[&str]) -> String {
    match nearest(name, known.iter().copied()) {
        Some(best) => format!("the nearest one is \"{best}\""),
        None => format!("there are: {}", known.join(", ")),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde::Deserialize;

    #[derive(Debug, Deserialize)]
    #[serde(deny_unknown_fields)]
    #[allow(dead_code, reason = "only whether it can be read matters")]
    struct Small {
        picture: Option<String>,
        colour: Option<u8>,
    }

    #[test]
    fn what_is_wrong_is_told_with_its_line_and_in_words() {
        let wrong = |text: &str| parse::<Small>(text).unwrap_err();
        assert_eq!(
            wrong("colour = 1\n\npiture = \"x\"\n"),
            "line 3: there is no field \"piture\" here; the nearest one is \"picture\""
        );
        assert_eq!(wrong("zzzzzz = 1"), "line 1: there is no field \"zzzzzz\" here; there are: picture, colour");
        assert!(
            wrong("\ncolour = 300").ends_with("expected a whole number from 0 to 255"),
            "{}",
            wrong("colour = 300")
        );
        assert_eq!(wrong("picture = 5"), "line 1: invalid type: integer `5`, expected text in quotes");
        assert!(wrong("nonsense").starts_with("line 1: "), "{}", wrong("nonsense"));
    }
}
