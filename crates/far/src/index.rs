//! Pages on which web servers list a folder: links to what is directly below the page. There is no standard for them; links
//! are what all of them have.

use reqwest::Url;
use std::collections::BTreeSet;

/// What a page links to below itself: the names in its folder, those of folders with a slash at the end.
pub(crate) fn names(page: &str, base: &Url) -> BTreeSet<String> {
    hrefs(page).filter_map(|href| name(&href, base)).collect()
}

/// The values of all `href` attributes.
fn hrefs(page: &str) -> impl Iterator<Item = String> {
    let mut rest = page;
    std::iter::from_fn(move || {
        loop {
            let at = rest
                .bytes()
                .zip(rest.bytes().skip(1))
                .position(|(a, b)| a.eq_ignore_ascii_case(&b'h') && b.eq_ignore_ascii_case(&b'r'))?;
            rest = &rest[at..];
            let value = rest.get(..4).filter(|word| word.eq_ignore_ascii_case("href"));
            let value = value.and_then(|_| rest[4..].trim_start().strip_prefix('=')).map(str::trim_start);
            let Some(value) = value else {
                rest = &rest[1..];
                continue;
            };
            let (text, after) = match value.chars().next() {
                Some(quote @ ('"' | '\'')) => value[1..].split_once(quote).unwrap_or((&value[1..], "")),
                _ => value.split_at(value.find([' ', '>', '\n', '\t', '\r']).unwrap_or(value.len())),
            };
            rest = after;
            return Some(text.replace("&#39;", "'").replace("&quot;", "\"").replace("&amp;", "&"));
        }
    })
}

/// The name that a link stands for, if that is directly below the page.
fn name(href: &str, base: &Url) -> Option<String> {
    let url = base.join(href).ok()?;
    if url.query().is_some() || url.fragment().is_some() {
        return None;
    }
    let rest = url.as_str().strip_prefix(base.as_str()).filter(|rest| !rest.is_empty())?;
    let bare = rest.strip_suffix('/').unwrap_or(rest);
    (!bare.is_empty() && !bare.contains('/')).then(|| readable(rest))
}

/// A name as people write it, where an address with it means the same.
fn readable(name: &str) -> String {
    let mut bytes = Vec::new();
    let mut rest = name.bytes();
    while let Some(byte) = rest.next() {
        let digit = |b: Option<u8>| b.and_then(|b| char::from(b).to_digit(16)).and_then(|d| u8::try_from(d).ok());
        match byte {
            b'%' => match (digit(rest.next()), digit(rest.next())) {
                (Some(high), Some(low)) => bytes.push(high << 4 | low),
                _ => return name.to_owned(),
            },
            byte => bytes.push(byte),
        }
    }
    let is_plain = |text: &String| !text.contains(['%', '?', '#', '\\']) && !text.chars().any(char::is_control);
    // More than one slash, or one that is not at the end, stood for itself.
    let has_slash = |text: &str| text.strip_suffix('/').unwrap_or(text).contains('/');
    String::from_utf8(bytes).ok().filter(|text| is_plain(text) && !has_slash(text)).unwrap_or_else(|| name.to_owned())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn of(page: &str) -> Vec<String> {
        names(page, &Url::parse("https://pier.example/shelf/").unwrap()).into_iter().collect()
    }

    #[test]
    fn names_below_the_page_are_found_and_nothing_else() {
        let page = "<a href=\"../\">up</a> <A HREF='Kelp%20Courier.iso'>x</A> <a class=b href = disc2/ >y</a>
            <a href=\"?C=M;O=A\">sort</a> <a href=\"/shelf/a&amp;b.zip\">z</a> <a href=\"/other/x\">o</a>
            <a href=\"https://elsewhere.example/shelf/q\">q</a> <a href=\"deep/er/x\">no</a> <a href=\"#top\">t</a>
            <a href=\"50%25.bin\">%</a> <a href=\"a%2fb\">slash</a> <a href=\"caf%E9\">odd</a> <a href";
        assert_eq!(of(page), ["50%25.bin", "Kelp Courier.iso", "a%2fb", "a&b.zip", "caf%E9", "disc2/"]);
        assert!(of("href href=\"\" hr").is_empty());
    }

    proptest::proptest! {
        #[test]
        fn any_page_is_read_to_its_end(page in ".{0,300}") {
            of(&page);
        }

        #[test]
        fn any_links_are_read_to_their_end(page in "(href|HREF|=|\"|'| |<|>|%|%2|/|é|a){0,60}") {
            of(&page);
        }
    }
}
