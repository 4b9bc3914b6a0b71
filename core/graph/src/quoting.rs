//! Names as the language writes them.

/// A name as the language writes it: in quotes where it is no plain word.
pub fn quoted(name: &str) -> String {
    let mut chars = name.chars();
    let plain = chars.next().is_some_and(|c| c.is_alphabetic() || c == '_')
        && chars.all(|c| c.is_alphanumeric() || c == '_');
    if plain { name.to_string() } else { format!("`{}`", name.replace('`', "``")) }
}
