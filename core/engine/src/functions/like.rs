//! `LIKE`: `%` for any run of characters, `_` for one; the escape character makes either itself.

use memchr::memmem::Finder;

use crate::budget::Budget;
use crate::outcome::{CHECK_EVERY, Outcome};

pub(crate) enum Part {
    Run,
    Any,
    Character(char),
}

/// A pattern that is read once for many texts.
pub(crate) enum LikePattern {
    /// What stands between the runs: what begins the text, what comes within it, and what ends it.
    Pieces { first: String, within: Vec<Finder<'static>>, last: String },
    /// Without a run.
    Whole(String),
    /// With places for one character.
    Parts(Vec<Part>),
}

impl LikePattern {
    pub fn new(pattern: &str, escape: char) -> LikePattern {
        let mut parts = vec![];
        let mut characters = pattern.chars();
        while let Some(c) = characters.next() {
            parts.push(match c {
                c if c == escape => Part::Character(characters.next().unwrap_or(escape)),
                '%' => Part::Run,
                '_' => Part::Any,
                c => Part::Character(c),
            });
        }
        let mut pieces = vec![String::new()];
        for part in &parts {
            match (part, pieces.last_mut()) {
                (Part::Any, _) | (_, None) => return LikePattern::Parts(parts),
                (Part::Run, _) => pieces.push(String::new()),
                (Part::Character(c), Some(piece)) => piece.push(*c),
            }
        }
        let last = pieces.pop().unwrap_or_default();
        if pieces.is_empty() {
            return LikePattern::Whole(last);
        }
        let within = pieces.split_off(1).iter().map(|piece| Finder::new(piece).into_owned()).collect();
        LikePattern::Pieces { first: pieces.remove(0), within, last }
    }

    pub fn matches(&self, text: &str, budget: &Budget) -> Outcome<bool> {
        match self {
            LikePattern::Pieces { first, within, last } => Ok(has_pieces(text, first, within, last)),
            LikePattern::Whole(whole) => Ok(text == whole),
            LikePattern::Parts(parts) => has_parts(text, parts, budget),
        }
    }
}

/// Whether the pieces come one after the other, each where it comes first.
fn has_pieces(text: &str, first: &str, within: &[Finder<'_>], last: &str) -> bool {
    let fits = text.len() >= first.len() + last.len()
        && (first.is_empty() || text.starts_with(first))
        && (last.is_empty() || text.ends_with(last));
    if !fits {
        return false;
    }
    let mut left = &text.as_bytes()[first.len()..text.len() - last.len()];
    for piece in within {
        let Some(at) = piece.find(left) else { return false };
        left = &left[at + piece.needle().len()..];
    }
    true
}

/// Greedy with one point to come back to: linear in practice, quadratic at worst.
fn has_parts(text: &str, parts: &[Part], budget: &Budget) -> Outcome<bool> {
    let text: Vec<char> = text.chars().collect();
    let (mut t, mut p) = (0, 0);
    let mut back: Option<(usize, usize)> = None;
    let mut steps = 0u64;
    while t < text.len() {
        steps += 1;
        if steps.is_multiple_of(CHECK_EVERY) {
            budget.check()?;
        }
        let fits = match parts.get(p) {
            Some(Part::Run) => {
                back = Some((p, t));
                p += 1;
                continue;
            }
            Some(Part::Any) => true,
            Some(Part::Character(c)) => *c == text[t],
            None => false,
        };
        (t, p) = match (fits, back) {
            (true, _) => (t + 1, p + 1),
            (false, Some((run, from))) => {
                back = Some((run, from + 1));
                (from + 1, run + 1)
            }
            (false, None) => return Ok(false),
        };
    }
    Ok(parts[p..].iter().all(|part| matches!(part, Part::Run)))
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::limits::Limits;

    #[test]
    fn like_matches_runs_and_single_characters() {
        let budget = Limits::default().budget();
        for (text, pattern, expected) in [
            ("Tarn End", "Tarn%", true),
            ("Tarn End", "%End", true),
            ("Tarn End", "T_rn%", true),
            ("Tarn End", "tarn%", false),
            ("100%", "100\\%", true),
            ("1000", "100\\%", false),
            ("", "%", true),
            ("", "_", false),
            ("abcabd", "%abd", true),
        ] {
            let found = LikePattern::new(pattern, '\\').matches(text, &budget);
            assert_eq!(found, Ok(expected), "{text} LIKE {pattern}");
        }
    }

    /// Every way to take the parts, tried one after the other.
    fn tried(text: &[char], pattern: &[char]) -> bool {
        match pattern {
            [] => text.is_empty(),
            ['%', rest @ ..] => (0..=text.len()).any(|from| tried(&text[from..], rest)),
            ['!', c, rest @ ..] => text.first() == Some(c) && tried(&text[1..], rest),
            ['!'] => text == ['!'],
            ['_', rest @ ..] => !text.is_empty() && tried(&text[1..], rest),
            [c, rest @ ..] => text.first() == Some(c) && tried(&text[1..], rest),
        }
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(20_000))]
        #[test]
        fn a_pattern_takes_what_trying_everything_takes(
            text in "[abä!%_]{0,7}", pattern in "[abä!%%_]{0,6}|[abä%]{0,6}"
        ) {
            let characters = |text: &str| text.chars().collect::<Vec<char>>();
            let found = LikePattern::new(&pattern, '!').matches(&text, &Limits::default().budget());
            prop_assert_eq!(found, Ok(tried(&characters(&text), &characters(&pattern))), "{} {}", text, pattern);
        }
    }
}
