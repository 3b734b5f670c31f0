//! The text format of PostgreSQL's COPY: fields between tabs, `\N` for null, backslash escapes.

/// Splits one line (without its newline) into fields, unescaping each into `scratch`; a field is none for null.
pub fn fields<'a>(line: &'a [u8], scratch: &'a mut Vec<u8>, places: &mut Vec<Option<(usize, usize)>>) -> &'a [u8] {
    places.clear();
    scratch.clear();
    for field in line.split(|&b| b == b'\t') {
        if field == b"\\N" {
            places.push(None);
            continue;
        }
        let start = scratch.len();
        unescape(field, scratch);
        places.push(Some((start, scratch.len())));
    }
    scratch
}

fn unescape(field: &[u8], out: &mut Vec<u8>) {
    let mut rest = field;
    while let Some(at) = rest.iter().position(|&b| b == b'\\') {
        out.extend_from_slice(&rest[..at]);
        out.push(match rest.get(at + 1) {
            Some(b'b') => 8,
            Some(b't') => b'\t',
            Some(b'n') => b'\n',
            Some(b'v') => 11,
            Some(b'f') => 12,
            Some(b'r') => b'\r',
            Some(&other) => other,
            None => b'\\',
        });
        rest = rest.get(at + 2..).unwrap_or_default();
    }
    out.extend_from_slice(rest);
}

/// Appends a field's text with what COPY treats specially escaped.
pub fn escape(text: &[u8], out: &mut Vec<u8>) {
    if !text.iter().any(|b| matches!(b, b'\\' | b'\t' | b'\n' | b'\r')) {
        return out.extend_from_slice(text);
    }
    for &byte in text {
        match byte {
            b'\\' => out.extend_from_slice(b"\\\\"),
            b'\t' => out.extend_from_slice(b"\\t"),
            b'\n' => out.extend_from_slice(b"\\n"),
            b'\r' => out.extend_from_slice(b"\\r"),
            _ => out.push(byte),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn fields_come_back(fields_in in prop::collection::vec(prop::option::of(any::<Vec<u8>>()), 1..6)) {
            let mut line = Vec::new();
            for (i, field) in fields_in.iter().enumerate() {
                if i > 0 {
                    line.push(b'\t');
                }
                match field {
                    None => line.extend_from_slice(b"\\N"),
                    Some(text) => escape(text, &mut line),
                }
            }
            prop_assert!(!line.contains(&b'\n'));
            let (mut scratch, mut places) = (Vec::new(), Vec::new());
            let text = fields(&line, &mut scratch, &mut places).to_vec();
            let found: Vec<_> = places.iter().map(|p| p.map(|(a, b)| text[a..b].to_vec())).collect();
            prop_assert_eq!(found, fields_in);
        }
    }
}
