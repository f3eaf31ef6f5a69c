use super::{number, row, style};
use crate::args::Style;
use decanter_core::Algorithm;
use decanter_jobs::digest::DigestReport;
use std::io::{self, Write};

/// Shows digests.
///
/// # Errors
/// When they cannot be written.
pub fn show(out: &mut dyn Write, report: &DigestReport, layout: Style) -> io::Result<()> {
    for (index, source) in report.sources.iter().enumerate() {
        match layout {
            Style::Table => {
                if index > 0 {
                    writeln!(out)?;
                }
                writeln!(out, "{}{}{}", style::BOLD, source.source, style::PLAIN)?;
                row(out, "bytes", &number(source.bytes))?;
                for digest in &source.digests {
                    row(out, digest.algorithm.name(), &digest.hex())?;
                }
            }
            Style::Sums => {
                let (mark, name) = escaped(&source.source);
                for digest in &source.digests {
                    if source.digests.len() == 1 {
                        writeln!(out, "{mark}{}  {name}", digest.hex())?;
                    } else {
                        writeln!(out, "{mark}{} ({name}) = {}", tag(digest.algorithm), digest.hex())?;
                    }
                }
            }
        }
    }
    Ok(())
}

/// The tag of the BSD form.
fn tag(algorithm: Algorithm) -> &'static str {
    match algorithm {
        Algorithm::Crc32 => "CRC32",
        Algorithm::Md5 => "MD5",
        Algorithm::Sha1 => "SHA1",
        Algorithm::Sha256 => "SHA256",
    }
}

/// A name as coreutils writes it: with a backslash before the line if something in it is escaped.
fn escaped(name: &str) -> (&'static str, String) {
    if !name.contains(['\\', '\n', '\r']) {
        return ("", name.to_owned());
    }
    ("\\", name.replace('\\', "\\\\").replace('\n', "\\n").replace('\r', "\\r"))
}

#[cfg(test)]
mod tests {
    use super::escaped;

    #[test]
    fn names_are_escaped_as_coreutils_does() {
        assert_eq!(escaped("plain name.iso"), ("", "plain name.iso".into()));
        assert_eq!(escaped("a\\b\nc"), ("\\", "a\\\\b\\nc".into()));
    }
}
