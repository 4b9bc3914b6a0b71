//! Names of types, labels and properties out of names of files and columns.

/// The words of a name, in lower case.
pub(crate) fn name_tokens(name: &str) -> Vec<String> {
    let mut tokens: Vec<String> = vec![];
    let mut lower = false;
    for c in name.chars() {
        if !c.is_alphanumeric() {
            lower = false;
            tokens.push(String::new());
            continue;
        }
        if c.is_uppercase() && lower || tokens.is_empty() {
            tokens.push(String::new());
        }
        lower = c.is_lowercase() || c.is_ascii_digit();
        if let Some(token) = tokens.last_mut() {
            token.extend(c.to_lowercase());
        }
    }
    tokens.retain(|t| !t.is_empty());
    tokens
}

/// The last word without its plural.
pub(crate) fn singular(name: &str) -> String {
    let lower = name.to_lowercase();
    let cut = |end: &str, with: &str| format!("{}{with}", &name[..name.len() - end.len()]);
    match () {
        _ if !name.is_ascii() || lower.len() < 4 => name.to_string(),
        _ if lower.ends_with("ies") => cut("ies", "y"),
        _ if ["sses", "xes", "ches", "shes"].iter().any(|end| lower.ends_with(end)) => cut("es", ""),
        _ if lower.ends_with("ss") || lower.ends_with("us") || lower.ends_with("is") => name.to_string(),
        _ if lower.ends_with('s') => cut("s", ""),
        _ => name.to_string(),
    }
}

/// Words of file names that say how a table was kept, not what is in it.
const KEPT: [&str; 9] =
    ["register", "spreadsheet", "list", "table", "export", "data", "sheet", "dump", "extract"];
/// Words of column names that say what kind of value it is.
const VALUES: [&str; 8] = ["id", "code", "no", "nr", "number", "key", "ref", "name"];

/// A label: `work_orders` becomes `WorkOrder`.
pub(crate) fn label(name: &str) -> String {
    let mut tokens = name_tokens(name);
    for dropped in [&KEPT[..], &VALUES[..]] {
        if tokens.iter().any(|t| !dropped.contains(&t.as_str())) {
            tokens.retain(|t| !dropped.contains(&t.as_str()));
        }
    }
    if let Some(last) = tokens.last_mut() {
        *last = singular(last);
    }
    let mut label = String::new();
    for token in tokens {
        let mut chars = token.chars();
        label.extend(chars.next().into_iter().flat_map(char::to_uppercase));
        label.extend(chars);
    }
    identifier(&label, "Thing")
}

/// An edge label: `order_number` becomes `ORDER`.
pub(crate) fn edge_label(name: &str) -> String {
    let mut tokens = name_tokens(name);
    if tokens.iter().any(|t| !VALUES.contains(&t.as_str())) {
        tokens.retain(|t| !VALUES.contains(&t.as_str()));
    }
    identifier(&tokens.join("_").to_uppercase(), "LINKS")
}

/// A property: what a column is called, as a name that needs no quotes.
pub(crate) fn property(name: &str) -> String {
    let name: String = name.trim().chars().map(|c| if c.is_alphanumeric() { c } else { '_' }).collect();
    identifier(&name, "value")
}

fn identifier(name: &str, otherwise: &str) -> String {
    let name = name.trim_matches('_');
    if name.is_empty() {
        return otherwise.to_string();
    }
    if name.starts_with(|c: char| c.is_ascii_digit()) {
        format!("{otherwise}_{name}")
    } else {
        name.to_string()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_become_labels() {
        for (from, to) in [
            ("work_orders", "WorkOrder"),
            ("asset_register", "Asset"),
            ("districts", "District"),
            ("valve", "Valve"),
            ("OrderLines", "OrderLine"),
            ("companies", "Company"),
            ("bus", "Bus"),
            ("2024 addresses", "Thing_2024Address"),
            ("data", "Data"),
        ] {
            assert_eq!(label(from), to);
        }
        for (from, to) in
            [("order_number", "ORDER"), ("pipes", "PIPES"), ("maker", "MAKER"), ("code", "CODE")]
        {
            assert_eq!(edge_label(from), to);
        }
        assert_eq!(property("Unit price (EUR)"), "Unit_price__EUR");
    }
}
