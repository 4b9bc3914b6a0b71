//! The shape of a query's text: compared and assigned literals become parameters, so that one plan serves texts
//! that differ only in them. A literal is replaced only where a parameter is allowed in every query: after a
//! comparison, and after the colon of a property.

use graphodrome_graph::Value;
use graphodrome_language::{TokenKind, tokenize};

/// Begins the names of the parameters that stand for literals; a text that has it is left alone.
const NAME: &str = "literal__";

pub(crate) struct Shape {
    /// A text of the language, its tokens a space apart.
    pub text: String,
    /// The literals by the names of their parameters.
    pub literals: Vec<(String, Value)>,
}

impl Shape {
    /// `None` where there is nothing to take out.
    pub fn of(text: &str) -> Option<Shape> {
        if text.contains(NAME) {
            return None;
        }
        let (tokens, errors) = tokenize(text);
        if !errors.is_empty() {
            return None;
        }
        let mut shape = Shape { text: String::with_capacity(text.len()), literals: vec![] };
        let mut before = None;
        for token in &tokens {
            if token.kind == TokenKind::End {
                break;
            }
            if !shape.text.is_empty() {
                shape.text.push(' ');
            }
            let given = matches!(before, Some("=" | "<>" | "<" | "<=" | ">" | ">=" | ":"));
            match &token.kind {
                TokenKind::Literal(value) if given => {
                    let name = shape.name_of(value);
                    shape.text.push('$');
                    shape.text.push_str(&name);
                }
                _ => shape.text.push_str(text.get(token.span.start as usize..token.span.end as usize)?),
            }
            before = match token.kind {
                TokenKind::Punctuation(mark) => Some(mark),
                _ => None,
            };
        }
        (!shape.literals.is_empty()).then_some(shape)
    }

    /// The parameter of a literal: one for all that are the same, since it may matter that they are.
    fn name_of(&mut self, value: &Value) -> String {
        let same = |known: &Value| known.type_name() == value.type_name() && known == value;
        if let Some((name, _)) = self.literals.iter().find(|(_, known)| same(known)) {
            return name.clone();
        }
        // Of what type it is decides what the query means.
        let name =
            format!("{NAME}{}_{}", self.literals.len(), value.type_name().to_lowercase().replace(' ', "_"));
        self.literals.push((name.clone(), value.clone()));
        name
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn literals_that_are_compared_or_given_are_taken_out() {
        let shape = |text: &str| Shape::of(text).map(|shape| shape.text);
        assert_eq!(
            shape("MATCH (a:Site {code: 'S1'})  WHERE a.x<5 /* why */ RETURN a.x").as_deref(),
            Some(
                "MATCH ( a : Site { code : $literal__0_string } ) WHERE a . x < $literal__1_int64 RETURN a . x"
            )
        );
        // The same literal twice is one parameter; another type is another shape.
        assert_eq!(
            shape("MATCH (a) WHERE a.x = 1 OR a.y = 1 RETURN a"),
            shape("MATCH (a) WHERE a.x = 2 OR a.y = 2 RETURN a")
        );
        assert_ne!(
            shape("MATCH (a) WHERE a.x = 1 OR a.y = 1 RETURN a"),
            shape("MATCH (a) WHERE a.x = 1 OR a.y = 2 RETURN a")
        );
        assert_ne!(shape("MATCH (a) WHERE a.x = 1 RETURN a"), shape("MATCH (a) WHERE a.x = 1.5 RETURN a"));
        // Neither quantifiers nor limits nor what belongs to a keyword.
        for text in
            ["MATCH (a)-[:R]->{1,3}(b) RETURN b LIMIT 5", "RETURN DATE '2024-05-31' AS d", "RETURN 'open"]
        {
            assert_eq!(shape(text), None, "{text}");
        }
    }
}
