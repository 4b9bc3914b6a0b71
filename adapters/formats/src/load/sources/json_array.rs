//! A JSON array of objects, written anew with an object a line. The values are not looked at here: an
//! item that is no valid JSON is a reject of its own.

use std::io::Write;

use crate::load::Progress;

/// Bytes between two questions whether to go on.
const ASK_EVERY: usize = 1 << 22;

pub(super) fn rows(bytes: &[u8], out: &mut impl Write, progress: &Progress) -> Result<(), String> {
    let text = bytes.strip_prefix(b"\xEF\xBB\xBF").unwrap_or(bytes);
    let space = |at: usize| text[at..].iter().take_while(|b| b.is_ascii_whitespace()).count() + at;
    let start = space(0);
    if text.get(start) != Some(&b'[') {
        return Err("the file is no JSON array; for an object a line write format = \"jsonl\"".into());
    }
    let (mut depth, mut quoted, mut at) = (0usize, false, space(start + 1));
    let mut item = at;
    let mut asked = 0;
    let mut write = |item: &[u8]| -> Result<(), String> {
        let item = item.trim_ascii();
        if item.is_empty() {
            return Err("an item of the array is missing: two commas follow one another".into());
        }
        // A line end inside an item is white space: inside a text it would not be valid JSON.
        let line: Vec<u8> = item.iter().map(|b| if matches!(b, b'\n' | b'\r') { b' ' } else { *b }).collect();
        out.write_all(&line).and_then(|()| out.write_all(b"\n")).map_err(super::cannot_keep)
    };
    if text.get(at) == Some(&b']') {
        return end(&text[at + 1..]);
    }
    while let Some(&byte) = text.get(at) {
        if at - asked > ASK_EVERY {
            progress.check().map_err(|e| e.to_string())?;
            asked = at;
        }
        match byte {
            b'\\' if quoted => at += 1,
            b'"' => quoted = !quoted,
            _ if quoted => {}
            b'{' | b'[' => depth += 1,
            b']' if depth == 0 => {
                write(&text[item..at])?;
                return end(&text[at + 1..]);
            }
            b'}' | b']' => {
                depth = depth.checked_sub(1).ok_or("a bracket is closed that was not opened")?;
            }
            b',' if depth == 0 => {
                write(&text[item..at])?;
                item = at + 1;
            }
            _ => {}
        }
        at += 1;
    }
    Err("the JSON array is never closed: the file may be cut off".into())
}

fn end(rest: &[u8]) -> Result<(), String> {
    if rest.iter().all(u8::is_ascii_whitespace) {
        Ok(())
    } else {
        Err("something follows the JSON array".into())
    }
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used)]

    use super::*;

    fn lines(text: &str) -> Result<Vec<String>, String> {
        let mut out = vec![];
        rows(text.as_bytes(), &mut out, &Progress::default())?;
        Ok(String::from_utf8(out).unwrap().lines().map(str::to_string).collect())
    }

    #[test]
    fn items_become_lines() {
        let text = " [ {\"a\": \"x],\\\"\",\n \"b\": [1, {}]} , {} ]\n";
        assert_eq!(lines(text).unwrap(), ["{\"a\": \"x],\\\"\",  \"b\": [1, {}]}", "{}"]);
        assert_eq!(lines("[]").unwrap(), Vec::<String>::new());
    }

    #[test]
    fn what_is_no_array_is_said() {
        for (text, part) in [
            ("{}", "no JSON array"),
            ("[{}", "never closed"),
            ("[{},,{}]", "missing"),
            ("[{}] x", "follows"),
            ("[}]", "not opened"),
        ] {
            let error = lines(text).unwrap_err();
            assert!(error.contains(part), "{text}: {error}");
        }
    }
}
