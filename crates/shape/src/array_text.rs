//! Arrays of one dimension, in the text that PostgreSQL writes: `{a,NULL,"b c"}`.

/// The elements of an array's text; none if it is no array of one dimension.
#[must_use]
pub fn elements(text: &str) -> Option<Vec<Option<String>>> {
    let inner = text.trim().strip_prefix('{')?.strip_suffix('}')?;
    let mut out = Vec::new();
    let mut rest = inner.trim_start();
    if rest.is_empty() {
        return Some(out);
    }
    loop {
        rest = rest.trim_start();
        let mut element = String::new();
        if let Some(mut inside) = rest.strip_prefix('"') {
            loop {
                let c = inside.chars().next()?;
                inside = &inside[c.len_utf8()..];
                match c {
                    '"' => break,
                    '\\' => {
                        let c = inside.chars().next()?;
                        inside = &inside[c.len_utf8()..];
                        element.push(c);
                    }
                    c => element.push(c),
                }
            }
            out.push(Some(element));
            rest = inside.trim_start();
        } else {
            let end = rest.find(',').unwrap_or(rest.len());
            let plain = rest[..end].trim_end();
            if plain.is_empty() || plain.contains(['{', '}', '"']) {
                return None;
            }
            out.push((!plain.eq_ignore_ascii_case("null")).then(|| plain.replace('\\', "")));
            rest = &rest[end..];
        }
        match rest.strip_prefix(',') {
            Some(after) => rest = after,
            None => return rest.is_empty().then_some(out),
        }
    }
}

/// An array's text.
pub fn write<'e>(elements: impl IntoIterator<Item = Option<&'e str>>) -> String {
    let mut out = String::from("{");
    for (n, element) in elements.into_iter().enumerate() {
        if n > 0 {
            out.push(',');
        }
        let Some(text) = element else {
            out.push_str("NULL");
            continue;
        };
        let special = |c: char| matches!(c, '{' | '}' | ',' | '"' | '\\') || c.is_ascii_whitespace() || c == '\u{b}';
        if text.is_empty() || text.eq_ignore_ascii_case("null") || text.contains(special) {
            out.push('"');
            for c in text.chars() {
                if matches!(c, '"' | '\\') {
                    out.push('\\');
                }
                out.push(c);
            }
            out.push('"');
        } else {
            out.push_str(text);
        }
    }
    out.push('}');
    out
}

pub(crate) fn owned(elements: &[Option<String>]) -> String {
    write(elements.iter().map(Option::as_deref))
}

/// How many elements an array has in each of its dimensions; none if its text is no array.
pub(crate) fn dimensions(text: &str) -> Option<Vec<usize>> {
    let inner = text.trim().strip_prefix('{')?.strip_suffix('}')?;
    if inner.trim().is_empty() {
        return Some(Vec::new());
    }
    let (mut depth, mut quoted, mut escaped, mut count) = (0_usize, false, false, 1);
    let mut first_end = None;
    for (at, c) in inner.char_indices() {
        match c {
            _ if escaped => escaped = false,
            '\\' => escaped = true,
            '"' => quoted = !quoted,
            _ if quoted => {}
            '{' => depth += 1,
            '}' => depth = depth.checked_sub(1)?,
            ',' if depth == 0 => {
                count += 1;
                first_end.get_or_insert(at);
            }
            _ => {}
        }
    }
    let first = inner[..first_end.unwrap_or(inner.len())].trim();
    let mut out = vec![count];
    if first.starts_with('{') {
        out.extend(dimensions(first)?);
    }
    Some(out)
}
