//! Names of fields: in texts that people write with hyphens, in objects that programs read with low lines, as everywhere there.

use serde::{Serialize, Serializer};
use serde_json::Value;

/// What has names that are no fields: options, platforms.
const AS_THEY_ARE: [&str; 2] = ["with", "commands"];

/// Writes a value with the names that objects have here.
///
/// # Errors
/// What the serializer fails with.
pub(super) fn for_programs<T: Serialize, S: Serializer>(value: &T, to: S) -> Result<S::Ok, S::Error> {
    let value = serde_json::to_value(value).map_err(serde::ser::Error::custom)?;
    respelled(value).serialize(to)
}

fn respelled(value: Value) -> Value {
    match value {
        Value::Array(all) => Value::Array(all.into_iter().map(respelled).collect()),
        Value::Object(fields) => {
            let field = |(name, value): (String, Value)| {
                let is_kept = AS_THEY_ARE.contains(&name.as_str());
                (name.replace('-', "_"), if is_kept { value } else { respelled(value) })
            };
            Value::Object(fields.into_iter().map(field).collect())
        }
        other => other,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn fields_are_respelled_and_options_are_not() {
        let value = serde_json::json!({"about-bytes": 1, "with": {"disk-id": "x-y"}, "all": [{"file-bytes": "a-b"}]});
        let wanted = serde_json::json!({"about_bytes": 1, "with": {"disk-id": "x-y"}, "all": [{"file_bytes": "a-b"}]});
        assert_eq!(for_programs(&value, serde_json::value::Serializer).unwrap(), wanted);
    }
}
