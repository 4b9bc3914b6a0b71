//! The mapping that loads an exported pair of tables again: one rule for each label set, so that each property
//! keeps its type.

use std::collections::BTreeMap;

use graphodrome_graph::{Element, LabelSet};

use crate::export::Export;
use crate::export::form::{SEPARATOR, TableForm};
use crate::export::survey::Properties;
use crate::mapping::{EdgeRule, Field, Mapping, NodeRule, Reference, Same, TableMapping};

/// A text as a literal of the expression language.
fn literal(text: &str) -> String {
    format!("'{}'", text.replace('\\', "\\\\").replace('\'', "\\'"))
}

fn fields(properties: &Properties) -> BTreeMap<String, Field> {
    properties.keys().map(|name| (name.to_string(), Field::column(&**name))).collect()
}

/// Also where a graph type has them: an open graph takes them from here.
fn types(properties: &Properties) -> BTreeMap<String, String> {
    let typed = properties.iter().filter_map(|(name, seen)| Some((name.to_string(), seen.value_type()?)));
    typed.map(|(name, value_type)| (name, value_type.to_string())).collect()
}

pub(super) fn text(export: &Export<'_>, kind: TableForm) -> String {
    let of_labels = |labels: &LabelSet| format!("\"@labels\" = {}", literal(&labels.join(SEPARATOR)));
    let nodes = export.survey.nodes.iter().filter(|(labels, _)| !labels.is_empty());
    let nodes = nodes.map(|(labels, properties)| {
        let keys = export.snapshot.keys.iter();
        let key = keys.into_iter().find(|k| k.element == Element::Node && labels.contains(&k.label));
        let given = |p: &&std::sync::Arc<str>| properties.contains_key(*p);
        let key = key.filter(|k| k.properties.iter().all(|p| given(&p)));
        NodeRule {
            labels: labels.iter().map(|l| l.to_string()).collect(),
            label_from: None,
            label_split: None,
            key: key.map(|k| k.properties.iter().map(|p| p.to_string()).collect()).unwrap_or_default(),
            id: Some(Field::column("@id")),
            properties: fields(properties),
            types: types(properties),
            existing: Default::default(),
            optional: false,
            filter: Some(of_labels(labels)),
        }
    });
    let edges = export.survey.edges.iter().map(|((labels, directed), properties)| {
        let end = |column: &str| Reference { id: Some(Field::column(column)), ..Reference::default() };
        let one = labels.len() == 1;
        let which = if *directed { "\"@directed\" = 'true'" } else { "\"@directed\" = 'false'" };
        let which = match kind {
            TableForm::Csv => which.to_string(),
            // There the column has a type.
            _ => which.replace('\'', ""),
        };
        EdgeRule {
            label: if one { labels[0].to_string() } else { String::new() },
            label_from: (!one).then(|| "@labels".into()),
            label_split: (!one).then(|| SEPARATOR.into()),
            undirected: !directed,
            source: end("@source"),
            target: end("@target"),
            properties: fields(properties),
            types: types(properties),
            same: Same::OnePerRow,
            existing: Default::default(),
            optional: false,
            filter: Some(format!("{} AND {which}", of_labels(labels))),
        }
    });
    let table =
        |name: &str| TableMapping { file: format!("{name}.{}", kind.suffix()), ..TableMapping::default() };
    let mut tables = vec![
        TableMapping { nodes: nodes.collect(), ..table("nodes") },
        TableMapping { edges: edges.collect(), ..table("edges") },
    ];
    tables.retain(|t| !t.nodes.is_empty() || !t.edges.is_empty());
    let mapping = Mapping {
        graph: None,
        null: match kind {
            TableForm::Csv => vec![export.survey.null_word().into()],
            // There a null is none.
            _ => vec![],
        },
        reject_limit: Some(crate::mapping::RejectLimit::Count(0)),
        tables,
    };
    let remark = format!(
        "# Loads the export of the graph {} again: graphodrome load load.toml -g NAME\n# A graph of the same model is made by: graphodrome model show -g {}\n",
        export.graph, export.graph
    );
    format!("{remark}{}", mapping.to_toml())
}
