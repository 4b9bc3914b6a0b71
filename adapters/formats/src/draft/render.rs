//! The draft as two texts that a person reads and edits.

use std::fmt::Write;

use super::Draft;
use super::column::{ColumnProfile, SeenKind};
use super::names::{edge_label, property};
use super::profile::TableProfile;
use super::structure::{End, Entity, Relation, Structure};

/// A property name of a table's columns that no other of them has.
fn property_of(table: &TableProfile, column: usize) -> String {
    let name = property(&table.columns[column].name);
    let same = |c: &&ColumnProfile| property(&c.name) == name;
    if table.columns[..column].iter().filter(same).count() > 0 {
        return quoted_if_needed(&format!("{name}_{}", column + 1));
    }
    quoted_if_needed(&name)
}

/// A word the language keeps for itself stands in quotes.
fn quoted_if_needed(name: &str) -> String {
    let text = format!("MATCH (n) RETURN n.{name} AS {name}");
    if graphodrome_language::parse(&text).is_ok() { name.to_string() } else { format!("\"{name}\"") }
}

fn bare(name: &str) -> &str {
    name.trim_matches('"')
}

pub(super) fn value_type(column: &ColumnProfile) -> String {
    match column.kind {
        SeenKind::Whole => "INT64".into(),
        SeenKind::Decimal { digits, scale, fixed: true } => {
            format!("DECIMAL({}, {scale})", digits.clamp(10, 28))
        }
        SeenKind::Decimal { .. } => "FLOAT64".into(),
        SeenKind::Bool => "BOOL".into(),
        SeenKind::Date => "DATE".into(),
        SeenKind::LocalDateTime => "LOCAL DATETIME".into(),
        SeenKind::ZonedDateTime => "ZONED DATETIME".into(),
        SeenKind::Text | SeenKind::Nothing => "STRING".into(),
    }
}

struct Rendering<'t> {
    tables: &'t [TableProfile],
    structure: &'t Structure,
}

impl Rendering<'_> {
    fn property_type(&self, table: usize, column: usize, nullable: bool) -> String {
        let profile = &self.tables[table];
        let own = &profile.columns[column];
        let null = if own.nulls == 0 && !nullable { " NOT NULL" } else { "" };
        format!("{} {}{null}", property_of(profile, column), value_type(own))
    }

    /// Columns with values at all; the others are said and left out.
    fn kept<'c>(&'c self, table: usize, columns: &'c [usize]) -> impl Iterator<Item = usize> + 'c {
        columns.iter().copied().filter(move |&c| self.tables[table].columns[c].kind != SeenKind::Nothing)
    }

    /// What the property that is an entity's key is called.
    fn key_name(&self, entity: &Entity) -> Option<String> {
        let key = entity.key?;
        match &entity.key_name {
            Some(name) => Some(quoted_if_needed(name)),
            None => Some(property_of(&self.tables[entity.table], key)),
        }
    }

    /// The properties that are an entity's key, with their columns.
    fn key_names(&self, entity: &Entity) -> Vec<(String, usize)> {
        let first = self.key_name(entity).zip(entity.key);
        let more = entity.more_key.iter().map(|&c| (property_of(&self.tables[entity.table], c), c));
        first.into_iter().chain(more).collect()
    }

    fn node_type(&self, entity: &Entity) -> String {
        let key_type = |key: usize| value_type(&self.tables[entity.table].columns[key]);
        let key = self.key_names(entity);
        let mut properties: Vec<String> =
            key.iter().map(|(name, c)| format!("{name} {} NOT NULL", key_type(*c))).collect();
        properties.extend(
            self.kept(entity.table, &entity.columns)
                .map(|c| self.property_type(entity.table, c, entity.elsewhere)),
        );
        let names: Vec<&str> = key.iter().map(|(name, _)| name.as_str()).collect();
        let key = if names.is_empty() { String::new() } else { format!(" KEY ({})", names.join(", ")) };
        let label = &entity.label;
        format!("({label} :{label} {{ {} }}{key})", properties.join(", "))
    }

    fn end(&self, end: &End) -> String {
        let labels: Vec<&str> =
            end.entities.iter().map(|&e| self.structure.entities[e].label.as_str()).collect();
        match labels[..] {
            [one] => one.to_string(),
            _ => format!(":{}", labels.join("|:")),
        }
    }

    fn edge_type(&self, relation: &Relation) -> String {
        let properties: Vec<String> = self
            .kept(relation.table, &relation.columns)
            .map(|c| self.property_type(relation.table, c, false))
            .collect();
        let shown =
            if properties.is_empty() { String::new() } else { format!(" {{ {} }}", properties.join(", ")) };
        let key =
            relation.key.map(|key| format!(" KEY ({})", property_of(&self.tables[relation.table], key)));
        format!(
            "({})-[:{}{shown}{}]->({})",
            self.end(&relation.from),
            relation.label,
            key.unwrap_or_default(),
            self.end(&relation.to)
        )
    }

    fn reference(&self, table: usize, end: &End) -> String {
        let labels: Vec<String> =
            end.entities.iter().map(|&e| format!("\"{}\"", self.structure.entities[e].label)).collect();
        let first = &self.structure.entities[end.entities[0]];
        let pairs: Vec<String> = (self.key_names(first).iter().zip(&end.columns))
            .map(|((name, _), &column)| {
                format!("{} = {}", toml_key(bare(name)), toml_text(&self.tables[table].columns[column].name))
            })
            .collect();
        format!("{{ labels = [{}], key = {{ {} }} }}", labels.join(", "), pairs.join(", "))
    }

    fn pairs(&self, table: usize, columns: impl Iterator<Item = usize>) -> Vec<String> {
        let profile = &self.tables[table];
        let pair = |c: usize| {
            format!("{} = {}", toml_key(bare(&property_of(profile, c))), toml_text(&profile.columns[c].name))
        };
        columns.map(pair).collect()
    }

    fn node_rule(&self, entity: &Entity, out: &mut String) {
        let _ = writeln!(out, "[[table.node]]\nlabels = [\"{}\"]", entity.label);
        let mut pairs: Vec<String> = (self.key_names(entity).iter())
            .map(|(name, key)| {
                let column = &self.tables[entity.table].columns[*key].name;
                format!("{} = {}", toml_key(bare(name)), toml_text(column))
            })
            .collect();
        pairs.extend(self.pairs(entity.table, self.kept(entity.table, &entity.columns)));
        let _ = writeln!(out, "properties = {{ {} }}", pairs.join(", "));
        if entity.key.is_some_and(|key| self.tables[entity.table].columns[key].nulls > 0) {
            out.push_str("optional = true\n");
        }
    }

    /// The types of an alternative, as comments above those of its entity.
    fn alternative_types(&self, place: usize) -> Vec<String> {
        let mut lines = vec![];
        for a in self.structure.alternatives.iter().filter(|a| a.entity == place) {
            let entity = &self.structure.entities[a.entity];
            let name = property_of(&self.tables[entity.table], a.column);
            let label = &a.label;
            lines.push(format!("{}; as nodes of their own:", a.evidence));
            lines.push(format!("({label} :{label} {{ {name} STRING NOT NULL }} KEY ({name})),"));
            let edge = edge_label(&self.tables[entity.table].columns[a.column].name);
            lines.push(format!("({})-[:{edge}]->({label}),", entity.label));
        }
        lines
    }

    fn alternative_rules(&self, place: usize, out: &mut String) {
        for a in self.structure.alternatives.iter().filter(|a| a.entity == place) {
            let entity = &self.structure.entities[a.entity];
            let column = &self.tables[entity.table].columns[a.column];
            let name = property_of(&self.tables[entity.table], a.column);
            let mut columns: Vec<usize> = entity.key.into_iter().collect();
            columns.extend(&entity.more_key);
            let from = self.reference(entity.table, &End { entities: vec![place], columns });
            let (name, text) = (toml_key(bare(&name)), toml_text(&column.name));
            let _ = writeln!(out, "# {}; as nodes of their own:", a.evidence);
            let optional = if column.nulls > 0 { "#optional = true\n" } else { "" };
            let _ = write!(
                out,
                "#[[table.node]]\n#labels = [\"{label}\"]\n#properties = {{ {name} = {text} }}\n{optional}#[[table.edge]]\n#label = \"{}\"\n#source = {from}\n#target = {{ labels = [\"{label}\"], key = {{ {name} = {text} }} }}\n{optional}",
                edge_label(&column.name),
                label = a.label,
            );
        }
    }

    fn edge_rule(&self, relation: &Relation, out: &mut String) {
        if let Some(made) = relation.makes {
            let entity = &self.structure.entities[made];
            let key = self.key_name(entity).unwrap_or_default();
            let column = &self.tables[relation.table].columns[relation.to.columns[0]];
            let _ = writeln!(
                out,
                "# the ones that no other table has\n[[table.node]]\nlabels = [\"{}\"]",
                entity.label
            );
            let _ =
                writeln!(out, "properties = {{ {} = {} }}", toml_key(bare(&key)), toml_text(&column.name));
            if column.nulls > 0 {
                out.push_str("optional = true\n");
            }
        }
        for note in &relation.notes {
            let _ = writeln!(out, "# {note}");
        }
        let _ = writeln!(out, "[[table.edge]]\nlabel = \"{}\"", relation.label);
        let _ = writeln!(out, "source = {}", self.reference(relation.table, &relation.from));
        let _ = writeln!(out, "target = {}", self.reference(relation.table, &relation.to));
        let pairs = self.pairs(relation.table, self.kept(relation.table, &relation.columns));
        if !pairs.is_empty() {
            let _ = writeln!(out, "properties = {{ {} }}", pairs.join(", "));
        }
        if relation.optional {
            out.push_str("# a row without it has no such edge\noptional = true\n");
        }
    }
}

fn toml_key(name: &str) -> String {
    let plain = name.chars().all(|c| c.is_ascii_alphanumeric() || c == '_' || c == '-');
    if plain && !name.is_empty() { name.to_string() } else { toml_text(name) }
}

fn toml_text(text: &str) -> String {
    toml::Value::String(text.to_string()).to_string()
}

/// What a person should look at.
fn remarks(tables: &[TableProfile], structure: &Structure) -> Vec<String> {
    let mut remarks = structure.remarks.clone();
    for table in tables {
        let file = table.short();
        if table.ragged > 0 {
            remarks.push(format!(
                "{file}: {} rows have another number of fields than the header; a load refuses them",
                table.ragged
            ));
        }
        for column in &table.columns {
            let name = &column.name;
            if let Some(remark) = &column.remark {
                remarks.push(format!("{file}: {name}: {remark}"));
            }
            if column.kind == SeenKind::Nothing {
                remarks.push(format!("{file}: {name} has no value in any row and is left out"));
            }
            if column.capped {
                remarks.push(format!(
                    "{file}: {name} has more than {} different values; they were not counted further",
                    column.distinct()
                ));
            }
        }
    }
    remarks
}

impl Rendering<'_> {
    /// The graph type and the graph, as statements.
    fn model(&self, graph: &str, remarks: &[String]) -> String {
        let mut model = String::new();
        let type_name = quoted_if_needed(&format!("{}_type", bare(graph)));
        let plural = |n: usize, what: &str| format!("{n} {what}{}", if n == 1 { "" } else { "s" });
        let _ = writeln!(
            model,
            "// A draft from {}: read it, change what is wrong, and run it with\n//   graphodrome query -f model.gql",
            plural(self.tables.len(), "table")
        );
        let _ = writeln!(model, "CREATE GRAPH TYPE IF NOT EXISTS {type_name} AS {{");
        let Structure { entities, relations, .. } = self.structure;
        let total = entities.len() + relations.len();
        let mut line = 0;
        let mut entry = |model: &mut String, notes: &[String], text: String| {
            line += 1;
            for note in notes {
                let _ = writeln!(model, "  // {note}");
            }
            let _ = writeln!(model, "  {text}{}", if line < total { "," } else { "" });
        };
        for (place, entity) in entities.iter().enumerate() {
            let notes: Vec<String> =
                entity.notes.iter().cloned().chain(self.alternative_types(place)).collect();
            entry(&mut model, &notes, self.node_type(entity));
        }
        for relation in relations {
            entry(&mut model, &relation.notes, self.edge_type(relation));
        }
        let _ = writeln!(model, "}};\n\nCREATE GRAPH IF NOT EXISTS {graph} TYPED {type_name};");
        if !remarks.is_empty() {
            model.push_str("\n// To look at:\n");
            for remark in remarks {
                let _ = writeln!(model, "// - {remark}");
            }
        }
        model
    }

    /// How the tables become the graph.
    fn mapping(&self, graph: &str) -> String {
        let graph = bare(graph);
        let mut mapping =
            format!("# A draft: how the tables become the graph of model.gql.\ngraph = \"{graph}\"\n");
        mapping.push_str("# texts that mean no value\nnull = [\"\"]\n");
        for (place, table) in self.tables.iter().enumerate() {
            table_head(table, &mut mapping);
            let Structure { entities, relations, .. } = self.structure;
            let of_table = || entities.iter().enumerate().filter(|(_, e)| e.table == place);
            of_table().for_each(|(_, e)| self.node_rule(e, &mut mapping));
            let relations = relations.iter().filter(|r| r.table == place);
            relations.for_each(|r| self.edge_rule(r, &mut mapping));
            of_table().for_each(|(e, _)| self.alternative_rules(e, &mut mapping));
        }
        mapping
    }
}

/// What a mapping says of a table before its rules.
fn table_head(table: &TableProfile, mapping: &mut String) {
    let sampled = if table.sampled { "; columns were compared on a sample" } else { "" };
    let _ = writeln!(mapping, "\n# {} rows{sampled}\n[[table]]", table.rows);
    let _ = writeln!(mapping, "file = {}", toml_text(&table.file));
    if let Some(delimiter) = table.delimiter {
        let _ = writeln!(mapping, "delimiter = {}", toml_text(&delimiter.to_string()));
    }
    if let Some(order) = table.date_order {
        let columns = table.columns.iter().filter(|c| c.date_order == Some(order));
        let names: Vec<&str> = columns.map(|c| c.name.as_str()).collect();
        let _ = writeln!(
            mapping,
            "# {}: some dates can be read in this order only\ndate_order = \"{}\"",
            names.join(", "),
            order.name()
        );
    }
    if !table.null_words.is_empty() {
        let words = std::iter::once("").chain(table.null_words.iter().map(String::as_str));
        let _ = writeln!(mapping, "null = [{}]", words.map(toml_text).collect::<Vec<_>>().join(", "));
    }
}

pub(crate) fn render(name: &str, tables: &[TableProfile], structure: Structure) -> Draft {
    let graph = quoted_if_needed(&property(name));
    let remarks = remarks(tables, &structure);
    let rendering = Rendering { tables, structure: &structure };
    Draft {
        model: rendering.model(&graph, &remarks),
        mapping: rendering.mapping(&graph),
        remarks,
        node_types: structure.entities.len(),
        edge_types: structure.relations.len(),
    }
}
