//! Catalog statements and graph types (ISO/IEC 39075, clauses 12 and 18).
//!
//! Endpoints may be a type's name, a label set with a colon, or several of either with `|` between
//! them (ours). A `KEY (p, ...)` may follow a property list (ours).

use std::sync::Arc;

use graphodrome_graph::{
    Cardinality, EdgeType, Endpoint, GraphType, LabelSet, NodeType, PropertyType, label_set,
};

use crate::ast::*;
use crate::parse::{Parsed, Parser};
use crate::{Diagnostic, Span, nearest};

/// An endpoint before the node types are all known.
type RawEndpoint = Vec<(Vec<Name>, bool)>;

struct RawEdge {
    span: Span,
    edge: EdgeType,
    source: RawEndpoint,
    target: RawEndpoint,
}

impl Parser<'_> {
    pub(super) fn catalog_statement(&mut self, graph: Option<Name>) -> Parsed<Statement> {
        let start = self.span();
        if self.eat_word("DROP") {
            self.eat_word("PROPERTY");
            if self.at_word("KEY") || self.at_word("INDEX") {
                return self.drop_lookup(graph);
            }
            if self.eat_words(&["GRAPH", "VIEW"]) {
                return self.drop_view(graph);
            }
            if self.eat_words(&["DISTANCE", "BOUND"]) {
                return self.drop_bound(graph);
            }
            self.refuse_use(graph)?;
            self.expect_word("GRAPH")?;
            let of_type = self.eat_word("TYPE");
            let if_exists = self.eat_words(&["IF", "EXISTS"]);
            let name = self.name("a name")?;
            return Ok(if of_type {
                Statement::DropGraphType { name, if_exists }
            } else {
                Statement::DropGraph { name, if_exists }
            });
        }
        self.expect_word("CREATE")?;
        if self.at_word("KEY") || self.at_word("INDEX") {
            return self.create_lookup(graph, start).map(Statement::CreateLookup);
        }
        let or_replace = self.eat_words(&["OR", "REPLACE"]);
        self.eat_word("PROPERTY");
        if self.eat_words(&["GRAPH", "VIEW"]) {
            return self.create_view(graph, or_replace, start).map(Statement::CreateView);
        }
        if self.eat_words(&["DISTANCE", "BOUND"]) {
            return self.create_bound(graph, or_replace, start).map(Statement::CreateBound);
        }
        self.refuse_use(graph)?;
        self.expect_word("GRAPH")?;
        let of_type = self.eat_word("TYPE");
        let if_not_exists = self.eat_words(&["IF", "NOT", "EXISTS"]);
        let name = self.name("a name")?;
        if of_type {
            self.eat_word("AS");
            if self.eat_words(&["COPY", "OF"]) {
                let source = TypeSource::CopyOf(self.name("a graph type's name")?);
                return Ok(Statement::CopyGraphType { name, or_replace, if_not_exists, source });
            }
            if self.eat_word("LIKE") {
                let source = TypeSource::Like(self.name("a graph's name")?);
                return Ok(Statement::CopyGraphType { name, or_replace, if_not_exists, source });
            }
            let definition = Box::new(self.nested_graph_type_specification(name.text.clone())?);
            return Ok(Statement::CreateGraphType { name, or_replace, if_not_exists, definition });
        }
        let source = self.graph_source(&name)?;
        let copy_of =
            if self.eat_words(&["AS", "COPY", "OF"]) { Some(self.name("a graph's name")?) } else { None };
        Ok(Statement::CreateGraph { name, or_replace, if_not_exists, source, copy_of })
    }

    fn refuse_use(&self, graph: Option<Name>) -> Parsed<()> {
        match graph {
            Some(graph) => Err(Diagnostic::syntax(
                graph.span,
                "USE stands before a query, CREATE KEY, CREATE INDEX, CREATE GRAPH VIEW or CREATE DISTANCE BOUND",
            )
            .hint("leave it out: CREATE GRAPH and DROP GRAPH name their graph themselves")),
            None => Ok(()),
        }
    }

    fn graph_source(&mut self, name: &Name) -> Parsed<GraphSource> {
        if self.eat_word("ANY") {
            self.eat_word("PROPERTY");
            self.eat_word("GRAPH");
            return Ok(GraphSource::Any);
        }
        let typed = self.eat_word("TYPED") || (self.eat(":") && self.eat(":"));
        if self.eat_word("LIKE") {
            return Ok(GraphSource::Like(self.name("a graph's name")?));
        }
        if self.at_punctuation("{") {
            let definition = self.nested_graph_type_specification(name.text.clone())?;
            return Ok(GraphSource::Inline(Box::new(definition)));
        }
        if typed || self.at_name() {
            return Ok(GraphSource::Typed(self.name("a graph type's name")?));
        }
        Err(self
            .unexpected("ANY, TYPED, LIKE or \"{\"")
            .hint("CREATE GRAPH g ANY makes an open graph, CREATE GRAPH g TYPED t a closed one"))
    }

    pub(super) fn nested_graph_type_specification(&mut self, name: Arc<str>) -> Parsed<GraphType> {
        self.expect("{")?;
        let mut nodes: Vec<NodeType> = vec![];
        let mut raw_edges: Vec<RawEdge> = vec![];
        let mut raw_cardinalities = vec![];
        while !self.at_punctuation("}") {
            if self.eat_word("EACH") {
                raw_cardinalities.push(self.cardinality()?);
            } else {
                self.element_type(&mut nodes, &mut raw_edges)?;
            }
            if !self.eat(",") {
                break;
            }
        }
        self.expect("}")?;
        let mut edges: Vec<EdgeType> = vec![];
        for raw in raw_edges {
            let source = self.resolve_endpoint(&nodes, raw.source)?;
            let target = self.resolve_endpoint(&nodes, raw.target)?;
            if let Some(name) = &raw.edge.name
                && edges.iter().any(|t| t.name.as_ref() == Some(name))
            {
                return Err(Diagnostic::syntax(raw.span, format!("there are two edge types named {name}")));
            }
            let edge = EdgeType { source, target, ..raw.edge };
            if edges.iter().any(|t| {
                (&t.labels, t.directed, &t.source, &t.target)
                    == (&edge.labels, edge.directed, &edge.source, &edge.target)
            }) {
                return Err(Diagnostic::syntax(
                    raw.span,
                    format!(
                        "there are two edge types :{} between the same node types",
                        edge.labels.join("&")
                    ),
                ));
            }
            edges.push(edge);
        }
        let mut cardinalities = vec![];
        for (node, most, edge) in raw_cardinalities {
            cardinalities.push(self.resolve_cardinality(&nodes, &edges, node, most, &edge)?);
        }
        Ok(GraphType { name, nodes, edges, cardinalities })
    }

    /// `EACH Sensor HAS AT MOST 1 WATCHES` after EACH.
    fn cardinality(&mut self) -> Parsed<(RawEndpoint, u32, Name)> {
        let node = self.endpoint()?;
        self.expect_word("HAS")?;
        self.expect_word("AT")?;
        if self.at_word("LEAST") {
            return Err(self
                .not_supported(self.span(), "EACH ... HAS AT LEAST", "ours")
                .hint("a node is there before its edges are: check it with a query"));
        }
        self.expect_word("MOST")?;
        let most = self.unsigned("a number")?;
        self.eat(":");
        Ok((node, most, self.label_name()?))
    }

    fn resolve_cardinality(
        &self, nodes: &[NodeType], edges: &[EdgeType], node: RawEndpoint, most: u32, edge: &Name,
    ) -> Parsed<Cardinality> {
        let span = node[0].0[0].span;
        let Endpoint(sets) = self.resolve_endpoint(nodes, node)?;
        let [labels] = sets.as_slice() else {
            return Err(Diagnostic::syntax(span, "EACH names one node type")
                .hint("write one EACH ... for each of them"));
        };
        let named = edges.iter().find(|t| t.name.as_ref() == Some(&edge.text)).and_then(|t| t.labels.first());
        let label = match named {
            Some(label) => label.clone(),
            None if edges.iter().any(|t| t.labels.contains(&edge.text)) => edge.text.clone(),
            None => {
                let near = nearest(&edge.text, edges.iter().flat_map(|t| t.labels.iter().map(|l| &**l)));
                return Err(Diagnostic::unknown(
                    edge.span,
                    format!("there is no edge type {} in this graph type", edge.text),
                )
                .maybe_hint(near.map(|n| format!("did you mean {n}?"))));
            }
        };
        let takes_part = edges.iter().filter(|t| t.labels.contains(&label)).any(|t| {
            let ends = t.source.0.iter().chain(&t.target.0);
            let meets = |set: &LabelSet| {
                nodes.iter().any(|n| set.iter().chain(labels.iter()).all(|l| n.labels.contains(l)))
            };
            ends.into_iter().any(meets)
        });
        if !takes_part {
            return Err(Diagnostic::syntax(
                span,
                format!("no edge :{label} begins or ends at a node :{}", labels.join("&")),
            ));
        }
        Ok(Cardinality { node: labels.clone(), edge: label, most })
    }

    fn element_type(&mut self, nodes: &mut Vec<NodeType>, edges: &mut Vec<RawEdge>) -> Parsed<()> {
        let phrase_edge = self.at_word("DIRECTED")
            || self.at_word("UNDIRECTED")
            || self.at_word("EDGE")
            || self.at_word("RELATIONSHIP");
        if phrase_edge {
            edges.push(self.edge_type_phrase()?);
            return Ok(());
        }
        if self.eat_word("NODE") || self.eat_word("VERTEX") {
            self.eat_word("TYPE");
            return self.node_type_filler(nodes);
        }
        // Pattern form: a node type, or two endpoints with an edge type between.
        let start = self.at;
        self.expect("(")?;
        if self.endpoint().is_ok()
            && self.eat(")")
            && (self.at_punctuation("-") || self.at_punctuation("<") || self.at_punctuation("~"))
        {
            self.at = start;
            edges.push(self.edge_type_pattern()?);
            return Ok(());
        }
        self.at = start;
        self.expect("(")?;
        self.node_type_filler(nodes)?;
        self.expect(")")
    }

    /// `name :Key => :More { properties } KEY (p)`.
    fn node_type_filler(&mut self, nodes: &mut Vec<NodeType>) -> Parsed<()> {
        let start = self.span();
        let name = if self.at_name() { Some(self.name("a type's name")?) } else { None };
        let mut key_labels = self.label_set_phrase()?;
        let mut labels = key_labels.clone();
        if self.eat("=>") {
            labels.extend(self.label_set_phrase()?);
        } else if key_labels.is_empty() {
            // GQL: a type without a label set phrase takes its name as its label.
            let name = name.clone().ok_or_else(|| self.unexpected("a type's name or \":Label\""))?;
            labels = vec![name.clone()];
            key_labels = vec![name];
        }
        if key_labels.is_empty() {
            key_labels = labels.clone();
        }
        let properties = self.property_types()?;
        let key = self.key_phrase(&properties)?;
        let span = self.span_since(start);
        let labels = label_set(labels.iter().map(|l| l.text.clone()));
        if let Some(name) = &name
            && nodes.iter().any(|t| t.name.as_deref() == Some(&name.text))
        {
            return Err(Diagnostic::syntax(
                name.span,
                format!("there are two node types named {}", name.text),
            ));
        }
        if nodes.iter().any(|t| t.labels == labels) {
            return Err(Diagnostic::syntax(
                span,
                format!("there are two node types with the labels :{}", labels.join("&")),
            ));
        }
        nodes.push(NodeType {
            name: name.map(|n| n.text),
            labels,
            key_labels: label_set(key_labels.iter().map(|l| l.text.clone())),
            properties,
            key,
        });
        Ok(())
    }

    /// `:A&B`, `LABEL A`, `LABELS A & B` or nothing.
    fn label_set_phrase(&mut self) -> Parsed<Vec<Name>> {
        if !(self.eat(":") || self.eat_word("LABELS") || self.eat_word("LABEL") || self.eat_word("IS")) {
            return Ok(vec![]);
        }
        let mut labels = vec![self.label_name()?];
        while self.eat("&") {
            labels.push(self.label_name()?);
        }
        Ok(labels)
    }

    fn property_types(&mut self) -> Parsed<Vec<PropertyType>> {
        let mut types: Vec<PropertyType> = vec![];
        if !self.eat("{") {
            return Ok(types);
        }
        while !self.at_punctuation("}") {
            let name = self.property_name()?;
            if types.iter().any(|t| t.name == name.text) {
                return Err(Diagnostic::syntax(
                    name.span,
                    format!("property {} is declared twice", name.text),
                ));
            }
            // `TYPED`, `::`, a colon, or nothing.
            if !self.eat_word("TYPED") && self.eat(":") {
                self.eat(":");
            }
            let value_type = self.value_type()?;
            let not_null = self.eat_words(&["NOT", "NULL"]);
            let mut default = None;
            if self.eat_word("DEFAULT") {
                let place = self.span();
                let value = match self.expression()?.kind {
                    ExpressionKind::Literal(value) => value_type.assign(value),
                    _ => return Err(Diagnostic::syntax(place, "a DEFAULT is a literal")),
                };
                if !value_type.accepts(&value) {
                    return Err(Diagnostic::syntax(
                        self.span_since(place),
                        format!("the default {} is no {value_type}", value.excerpt()),
                    ));
                }
                default = Some(value);
            }
            types.push(PropertyType { name: name.text, value_type, not_null, default });
            if !self.eat(",") {
                break;
            }
        }
        self.expect("}")?;
        Ok(types)
    }

    fn key_phrase(&mut self, properties: &[PropertyType]) -> Parsed<Vec<Arc<str>>> {
        if !self.eat_word("KEY") {
            return Ok(vec![]);
        }
        self.expect("(")?;
        let names = self.comma_separated(Self::property_name)?;
        self.expect(")")?;
        for name in &names {
            let Some(declared) = properties.iter().find(|t| t.name == name.text) else {
                let near = nearest(&name.text, properties.iter().map(|t| &*t.name));
                return Err(Diagnostic::unknown(
                    name.span,
                    format!("the key names {}, which the type does not have", name.text),
                )
                .maybe_hint(near.map(|n| format!("did you mean {n}?"))));
            };
            if !declared.not_null {
                return Err(Diagnostic::syntax(
                    name.span,
                    format!("the key's property {} may be null", name.text),
                )
                .hint(format!("declare {} {} NOT NULL", name.text, declared.value_type)));
            }
        }
        Ok(names.into_iter().map(|n| n.text).collect())
    }

    /// `Name`, `:A&B`, or several with `|`.
    fn endpoint(&mut self) -> Parsed<RawEndpoint> {
        let mut alternatives = vec![];
        loop {
            if self.eat(":") || self.eat_word("IS") {
                let mut labels = vec![self.label_name()?];
                while self.eat("&") {
                    labels.push(self.label_name()?);
                }
                alternatives.push((labels, false));
            } else {
                alternatives.push((vec![self.name("a node type")?], true));
            }
            if !self.eat("|") {
                return Ok(alternatives);
            }
            // After `:A | B` the B is a label too.
            if let Some((_, false)) = alternatives.last()
                && self.at_name()
            {
                let mut labels = vec![self.label_name()?];
                while self.eat("&") {
                    labels.push(self.label_name()?);
                }
                alternatives.push((labels, false));
                if !self.eat("|") {
                    return Ok(alternatives);
                }
            }
        }
    }

    fn resolve_endpoint(&self, nodes: &[NodeType], raw: RawEndpoint) -> Parsed<Endpoint> {
        let mut sets: Vec<LabelSet> = vec![];
        for (names, is_type) in raw {
            let span = names[0].span;
            if is_type {
                let name = &names[0].text;
                match nodes.iter().find(|t| t.name.as_deref() == Some(name)) {
                    Some(t) => sets.push(t.key_labels.clone()),
                    None => {
                        let near = nearest(name, nodes.iter().filter_map(|t| t.name.as_deref()));
                        return Err(Diagnostic::unknown(
                            span,
                            format!("there is no node type {name} in this graph type"),
                        )
                        .maybe_hint(near.map(|n| format!("did you mean {n}?"))));
                    }
                }
            } else {
                let set = label_set(names.iter().map(|n| n.text.clone()));
                if !nodes.iter().any(|t| set.iter().all(|l| t.labels.contains(l))) {
                    let near =
                        nearest(&names[0].text, nodes.iter().flat_map(|t| t.labels.iter().map(|l| &**l)));
                    return Err(Diagnostic::unknown(
                        span,
                        format!("no node type has the labels :{}", set.join("&")),
                    )
                    .maybe_hint(near.map(|n| format!("did you mean {n}?"))));
                }
                sets.push(set);
            }
        }
        Ok(Endpoint(sets))
    }

    /// `(A)-[name :LABEL { ... } KEY (p)]->(B)`, `<-[ ]-`, `~[ ]~`.
    fn edge_type_pattern(&mut self) -> Parsed<RawEdge> {
        let whole = self.span();
        self.expect("(")?;
        let first = self.endpoint()?;
        self.expect(")")?;
        let start = self.span();
        let left = self.eat("<");
        let undirected = !left && self.eat("~");
        if !undirected {
            self.expect("-")?;
        }
        self.expect("[")?;
        let (name, labels, properties, key) = self.edge_type_filler()?;
        self.expect("]")?;
        if undirected {
            self.expect("~")?;
        } else {
            self.expect("-")?;
            if !left && !self.eat(">") {
                return Err(Diagnostic::syntax(self.span_since(start), "an edge type needs a direction")
                    .hint("write -[...]-> or ~[...]~ for undirected edges"));
            }
        }
        self.expect("(")?;
        let second = self.endpoint()?;
        self.expect(")")?;
        let (source, target) = if left { (second, first) } else { (first, second) };
        let none = Endpoint(vec![]);
        let edge = EdgeType {
            name,
            labels,
            directed: !undirected,
            source: none.clone(),
            target: none,
            properties,
            key,
        };
        Ok(RawEdge { span: self.span_since(whole), edge, source, target })
    }

    /// `DIRECTED EDGE TYPE name :LABEL { ... } CONNECTING (A TO B)`.
    fn edge_type_phrase(&mut self) -> Parsed<RawEdge> {
        let whole = self.span();
        let directed = if self.eat_word("UNDIRECTED") {
            false
        } else {
            self.eat_word("DIRECTED");
            true
        };
        if !self.eat_word("RELATIONSHIP") {
            self.expect_word("EDGE")?;
        }
        self.eat_word("TYPE");
        let (name, labels, properties, key) = self.edge_type_filler()?;
        self.expect_word("CONNECTING")?;
        self.expect("(")?;
        let source = self.endpoint()?;
        if !self.eat_word("TO") && !self.eat("~") {
            self.expect("-")?;
            self.expect(">")?;
        }
        let target = self.endpoint()?;
        self.expect(")")?;
        let none = Endpoint(vec![]);
        let edge = EdgeType { name, labels, directed, source: none.clone(), target: none, properties, key };
        Ok(RawEdge { span: self.span_since(whole), edge, source, target })
    }

    #[allow(clippy::type_complexity)] // Four parts, named where they are taken apart.
    fn edge_type_filler(&mut self) -> Parsed<(Option<Arc<str>>, LabelSet, Vec<PropertyType>, Vec<Arc<str>>)> {
        let start: Span = self.span();
        let name = if self.at_name() { Some(self.name("a type's name")?) } else { None };
        let mut labels = self.label_set_phrase()?;
        if self.eat("=>") {
            labels.extend(self.label_set_phrase()?);
        }
        if labels.is_empty() {
            match &name {
                Some(name) => labels.push(name.clone()),
                None => return Err(Diagnostic::syntax(start, "an edge type needs a label")),
            }
        }
        let properties = self.property_types()?;
        let key = self.key_phrase(&properties)?;
        let labels = label_set(labels.iter().map(|l| l.text.clone()));
        Ok((name.map(|n| n.text), labels, properties, key))
    }
}
