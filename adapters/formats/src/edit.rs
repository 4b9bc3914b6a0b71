//! A mapping's text changed by a tool: comments, order and spelling stay wherever the content does.

use toml_edit::{ArrayOfTables, DocumentMut, Item, Table};

use crate::mapping::{Mapping, MappingError};

/// `text` with its content replaced by that of `mapping`.
pub fn edit_mapping(text: &str, mapping: &Mapping) -> Result<String, MappingError> {
    let wanted: DocumentMut =
        mapping.to_toml().parse().map_err(|e: toml_edit::TomlError| MappingError::new(e.to_string()))?;
    // A text that is no TOML has nothing to keep.
    let Ok(mut document) = text.parse::<DocumentMut>() else { return Ok(wanted.to_string()) };
    merge(document.as_table_mut(), wanted.as_table());
    Ok(document.to_string())
}

fn merge(old: &mut Table, wanted: &Table) {
    let gone: Vec<String> =
        old.iter().map(|(name, _)| name.to_string()).filter(|name| !wanted.contains_key(name)).collect();
    for name in gone {
        // What the mapping leaves out because it is the usual may stand.
        old.remove(&name);
    }
    for (name, item) in wanted {
        match (old.get_mut(name), item) {
            (Some(Item::Table(old)), Item::Table(wanted)) => merge(old, wanted),
            (Some(Item::ArrayOfTables(old)), Item::ArrayOfTables(wanted)) => merge_all(old, wanted),
            (Some(known), wanted) if same(known, wanted) => {}
            (Some(known), wanted) => {
                let decor = known.as_value().map(|value| value.decor().clone());
                *known = plain(wanted);
                if let (Some(decor), Some(value)) = (decor, known.as_value_mut()) {
                    *value.decor_mut() = decor;
                }
            }
            (None, wanted) => {
                old.insert(name, plain(wanted));
            }
        }
    }
}

/// Tables inside a table are written as inline tables are in a text made by hand.
fn plain(item: &Item) -> Item {
    match item {
        Item::Table(table) => Item::Value(table.clone().into_inline_table().into()),
        other => other.clone(),
    }
}

fn merge_all(old: &mut ArrayOfTables, wanted: &ArrayOfTables) {
    while old.len() > wanted.len() {
        old.remove(old.len() - 1);
    }
    for (place, table) in wanted.iter().enumerate() {
        match old.get_mut(place) {
            Some(known) => merge(known, table),
            None => {
                let mut fresh = Table::new();
                merge(&mut fresh, table);
                old.push(fresh);
            }
        }
    }
}

/// Whether two items say the same, however they are written.
fn same(a: &Item, b: &Item) -> bool {
    let value = |item: &Item| -> Option<toml::Value> {
        let mut document = DocumentMut::new();
        document.insert("x", item.clone());
        toml::from_str::<toml::Table>(&document.to_string()).ok()?.remove("x")
    };
    value(a).is_some() && value(a) == value(b)
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used)]

    use super::*;
    use crate::mapping::{Existing, Field};

    const TEXT: &str = r#"# The works of 2024.
graph = "averley"  # the demo

[[table]]
file = 'works.csv'  # as exported
# One node a row.
[[table.node]]
labels = [ "WorkOrder" ]
properties = { number = "No" , cost = "Cost" }  # in euros
"#;

    #[test]
    fn comments_stay_where_the_content_does() {
        let mut mapping = Mapping::parse(TEXT).unwrap();
        mapping.tables[0].nodes[0].existing = Existing::Update;
        mapping.tables[0].nodes[0].properties.insert("kind".into(), Field::column("Kind"));
        let text = edit_mapping(TEXT, &mapping).unwrap();
        for kept in [
            "# The works of 2024.",
            "graph = \"averley\"  # the demo",
            "file = 'works.csv'  # as exported",
            "# One node a row.",
            "labels = [ \"WorkOrder\" ]",
            "# in euros",
        ] {
            assert!(text.contains(kept), "{kept} is gone from\n{text}");
        }
        let again = Mapping::parse(&text).unwrap();
        assert_eq!(again.to_toml(), mapping.to_toml());
    }

    #[test]
    fn rules_come_and_go() {
        let mut mapping = Mapping::parse(TEXT).unwrap();
        let rule = mapping.tables[0].nodes[0].clone();
        mapping.tables[0].nodes.push(rule);
        let two = edit_mapping(TEXT, &mapping).unwrap();
        assert_eq!(Mapping::parse(&two).unwrap().tables[0].nodes.len(), 2, "{two}");
        mapping.tables[0].nodes.pop();
        let one = edit_mapping(&two, &mapping).unwrap();
        assert_eq!(Mapping::parse(&one).unwrap().to_toml(), mapping.to_toml(), "{one}");
    }
}
