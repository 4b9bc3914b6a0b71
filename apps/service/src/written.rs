//! Texts with the saved queries that they call written behind them.

/// Stands before the text of a saved query. No text that is typed has it.
pub const MARK: &str = "\n--\u{1}saved query ";

/// The request's own part of a text.
pub fn asked(text: &str) -> &str {
    text.split_once(MARK).map_or(text, |(asked, _)| asked)
}

/// Where a place of a text lies in a saved query: its name, its text, and the place in that.
pub fn called_at(text: &str, at: usize) -> Option<(&str, &str, usize)> {
    let mark = text.get(..at)?.rfind(MARK)?;
    let rest = &text[mark + MARK.len()..];
    let (name, body) = rest.split_once('\n')?;
    let body = body.split_once(MARK).map_or(body, |(body, _)| body);
    let within = at.checked_sub(mark + MARK.len() + name.len() + 1)?;
    Some((name, body, within))
}
