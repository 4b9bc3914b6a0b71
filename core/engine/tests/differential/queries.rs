//! Random queries of the whole language, as far as their answer is determined.

use rand::Rng;
use rand_chacha::ChaCha8Rng;

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Compared {
    Ordered,
    Multiset,
    Count,
}

pub struct Question {
    pub text: String,
    pub compared: Compared,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Kind {
    Node,
    Edge,
    /// A list of edges bound under a quantifier.
    Edges,
    Path,
    /// A path of which only the length is determined.
    FreePath,
    /// Nothing of it is determined.
    Free,
    Number,
    Mixed,
}

struct Writer<'r> {
    rng: &'r mut ChaCha8Rng,
    variables: Vec<(String, Kind)>,
    next: usize,
}

pub fn question(rng: &mut ChaCha8Rng) -> Question {
    let mut writer = Writer { rng, variables: vec![], next: 0 };
    writer.query()
}

impl Writer<'_> {
    fn chance(&mut self, p: f64) -> bool {
        self.rng.random_bool(p)
    }

    fn below(&mut self, n: usize) -> usize {
        self.rng.random_range(0..n)
    }

    fn pick<'t>(&mut self, items: &[&'t str]) -> &'t str {
        items[self.below(items.len())]
    }

    fn fresh(&mut self, letter: &str, kind: Kind) -> String {
        self.next += 1;
        let name = format!("{letter}{}", self.next);
        self.variables.push((name.clone(), kind));
        name
    }

    fn some(&mut self, kinds: &[Kind]) -> Option<String> {
        let fit: Vec<String> =
            self.variables.iter().filter(|(_, k)| kinds.contains(k)).map(|(n, _)| n.clone()).collect();
        if fit.is_empty() { None } else { Some(fit[self.below(fit.len())].clone()) }
    }

    fn query(&mut self) -> Question {
        if self.chance(0.08) {
            return self.composed();
        }
        let mut text = self.clauses();
        if self.chance(0.12) {
            let (part, _) = self.result(false);
            text = format!("{text} {part} NEXT");
            if self.chance(0.5) {
                text = format!("{text} {}", self.clauses());
            }
        }
        let (result, compared) = self.result(true);
        Question { text: format!("{text} {result}").trim().to_string(), compared }
    }

    /// Two queries of the same columns.
    fn composed(&mut self) -> Question {
        let side = |writer: &mut Self| {
            writer.variables.clear();
            let clauses = writer.clauses();
            let value = writer.value();
            let distinct = writer.pick(&["", "DISTINCT "]);
            format!("{clauses} RETURN {distinct}{value} AS c")
        };
        let left = side(self);
        let right = side(self);
        let joined = self.pick(&[
            "UNION",
            "UNION ALL",
            "EXCEPT",
            "EXCEPT ALL",
            "INTERSECT",
            "INTERSECT ALL",
            "OTHERWISE",
        ]);
        let mut text = format!("{left} {joined} {right}");
        if self.chance(0.3) {
            let aggregate = self.pick(&["COUNT(*)", "COUNT(c)", "COUNT(DISTINCT c)"]);
            text = format!("{text} NEXT RETURN {aggregate} AS n");
        }
        Question { text, compared: Compared::Multiset }
    }

    fn clauses(&mut self) -> String {
        let mut clauses = vec![];
        let count = [1, 1, 1, 2, 2, 3][self.below(6)];
        for i in 0..count {
            let clause = match self.below(14) {
                _ if i == 0 => self.matching(""),
                0..=3 => self.matching(""),
                4..=5 => self.matching("OPTIONAL "),
                6..=7 => {
                    let condition = self.condition(2);
                    format!("FILTER {condition}")
                }
                8..=9 => {
                    let value = self.number();
                    let name = self.fresh("v", Kind::Number);
                    format!("LET {name} = {value}")
                }
                10 => {
                    let list = self.pick(&["[1, 2]", "[0, NULL, 1]", "[]", "[1, 1.0, 2]"]);
                    let name = self.fresh("v", Kind::Number);
                    format!("FOR {name} IN {list}")
                }
                11..=12 => self.call(),
                _ => match self.some(&[Kind::Node]) {
                    Some(node) => {
                        let sort = self.pick(&["id", "x"]);
                        format!("ORDER BY {node}.{sort}")
                    }
                    None => continue,
                },
            };
            clauses.push(clause);
        }
        clauses.join(" ")
    }

    fn call(&mut self) -> String {
        let Some(node) = self.some(&[Kind::Node]) else { return self.matching("") };
        let optional = self.pick(&["", "OPTIONAL "]);
        let label = self.label();
        let arrow = self.pick(&["-[:R]->", "<-[:S]-", "-[]-", "~[]~", "->"]);
        let name = self.fresh("v", Kind::Number);
        let result = match self.below(4) {
            0 => format!("RETURN COUNT(*) AS {name}"),
            1 => format!("RETURN SUM(q.x) AS {name}"),
            2 => format!("RETURN q.x AS {name} ORDER BY q.id, {name} LIMIT 1"),
            _ => format!("RETURN q.x AS {name}"),
        };
        format!("{optional}CALL ({node}) {{ MATCH ({node}){arrow}(q{label}) {result} }}")
    }

    fn matching(&mut self, optional: &str) -> String {
        let repeatable = self.chance(0.06);
        let count = if self.chance(0.25) { 2 } else { 1 };
        let paths: Vec<String> = (0..count).map(|_| self.path(repeatable)).collect();
        let condition = if self.chance(0.3) {
            let condition = self.condition(2);
            format!(" WHERE {condition}")
        } else {
            String::new()
        };
        let mode = if repeatable { "REPEATABLE ELEMENTS " } else { "" };
        format!("{optional}MATCH {mode}{}{condition}", paths.join(", "))
    }

    fn label(&mut self) -> &'static str {
        self.pick(&["", "", "", "", "", "", "", ":A", ":B", ":A&B", ":!A", ":A|B"])
    }

    fn node(&mut self) -> String {
        let name = match self.below(10) {
            0..=1 => self.some(&[Kind::Node]).unwrap_or_default(),
            2..=6 => self.fresh("n", Kind::Node),
            _ => String::new(),
        };
        let label = self.label();
        let filter = match self.below(20) {
            0 => format!(" {{x: {}}}", self.below(3)),
            1 => format!(" {{id: {}}}", self.below(5)),
            2 if !name.is_empty() => {
                let other = self.some(&[Kind::Node]).unwrap_or_default();
                format!(" WHERE {name}.x {} {other}.x", self.pick_comparison())
            }
            _ => String::new(),
        };
        format!("({name}{label}{filter})")
    }

    fn pick_comparison(&mut self) -> &'static str {
        self.pick(&["=", "<>", "<", "<=", ">", ">="])
    }

    /// An edge; with a name of this kind.
    fn edge(&mut self, kind: Kind) -> String {
        let name = if self.chance(0.5) { self.fresh("e", kind) } else { String::new() };
        let label = self.pick(&["", "", "", ":R", ":S", ":R|S", ":!R"]);
        let filter = if self.chance(0.12) && !name.is_empty() && kind != Kind::Free {
            format!(" WHERE {name}.w {} {}", self.pick_comparison(), self.below(3))
        } else {
            String::new()
        };
        let inner = format!("{name}{label}{filter}");
        match self.below(10) {
            0..=3 => format!("-[{inner}]->"),
            4..=5 => format!("<-[{inner}]-"),
            6 => format!("~[{inner}]~"),
            7 => format!("-[{inner}]-"),
            8 => format!("<-[{inner}]->"),
            _ => self.pick(&["~[?]~>", "<~[?]~"]).replace('?', &inner),
        }
    }

    fn quantifier(&mut self, bounded: bool) -> &'static str {
        match bounded {
            true => self.pick(&["{1,2}", "{0,2}", "{2}", "{0,1}", "{1,3}", "{2,3}"]),
            false => self.pick(&["+", "*", "{1,2}", "{0,2}", "{2}", "{1,3}", "{2,}", "{0,1}"]),
        }
    }

    fn path(&mut self, repeatable: bool) -> String {
        if self.chance(0.3) {
            return self.searched();
        }
        let named = self.chance(0.2);
        let mut text = self.node();
        for _ in 0..[0, 1, 1, 1, 2, 2, 3][self.below(7)] {
            let step = match self.below(12) {
                0..=7 => self.edge(Kind::Edge),
                8..=9 => {
                    let edge = self.edge(Kind::Edges);
                    format!("{edge}{}", self.quantifier(repeatable))
                }
                10 => self.part(repeatable),
                _ => {
                    let (a, b) = (self.edge(Kind::Free), self.edge(Kind::Free));
                    let bar = self.pick(&[" | ", " |+| "]);
                    format!("(({a}){bar}({b}))").replace("((", "(").replace("))", ")")
                }
            };
            text = format!("{text}{step}{}", self.node());
        }
        match named {
            true => format!("{} = {text}", self.fresh("p", Kind::Path)),
            false => text,
        }
    }

    /// A parenthesised part.
    fn part(&mut self, bounded: bool) -> String {
        let (a, b) = (format!("u{}", self.next), format!("w{}", self.next));
        self.next += 1;
        let edge = self.edge(Kind::Free);
        let condition = match self.below(3) {
            0 => format!(" WHERE {a}.x {} {b}.x", self.pick_comparison()),
            1 => format!(" WHERE {a}.id <> {b}.id"),
            _ => String::new(),
        };
        let quantifier = if self.chance(0.7) { self.quantifier(bounded) } else { "" };
        format!("(({a}){edge}({b}){condition}){quantifier}")
    }

    /// A path with a search prefix, a mode, or both.
    fn searched(&mut self) -> String {
        let prefix = self.pick(&[
            "",
            "ALL SHORTEST",
            "ANY SHORTEST",
            "SHORTEST 2",
            "SHORTEST 2 GROUPS",
            "ANY",
            "ANY 2",
            "ALL SHORTEST",
        ]);
        let mut mode = self.pick(&["", "", "TRAIL", "ACYCLIC", "SIMPLE", "WALK"]);
        if prefix.is_empty() && matches!(mode, "" | "WALK") {
            mode = "TRAIL";
        }
        let free = !matches!(prefix, "" | "ALL SHORTEST" | "SHORTEST 2 GROUPS");
        let weight = matches!(prefix, "ANY SHORTEST" | "SHORTEST 2") && mode.is_empty() && self.chance(0.15);
        let (first, last);
        let middle = match self.below(5) {
            0..=2 => {
                first = self.node();
                let edge = self.edge(if free { Kind::Free } else { Kind::Edges });
                let quantifier = self.quantifier(false);
                last = self.node();
                format!("{edge}{quantifier}")
            }
            3 => {
                first = self.node();
                let part = self.part(false);
                last = self.node();
                part
            }
            _ => {
                first = self.node();
                let (a, b) = (self.edge(Kind::Free), self.edge(Kind::Free));
                let (q, r) = (self.quantifier(false), self.quantifier(true));
                last = self.node();
                format!("{a}{q}(){b}{r}")
            }
        };
        if weight {
            let path = self.fresh("p", Kind::Free);
            return format!("{path} = {prefix} BY k.w {first}-[k:R|S WHERE k.w IS NOT NULL]->+{last}");
        }
        if !self.chance(0.5) {
            return format!("{prefix} {mode} {first}{middle}{last}").trim().to_string();
        }
        let kind = match prefix {
            "ANY" | "ANY 2" => Kind::Free,
            _ if free => Kind::FreePath,
            _ => Kind::Path,
        };
        format!("{} = {prefix} {mode} {first}{middle}{last}", self.fresh("p", kind))
    }

    /// A number or null.
    fn number(&mut self) -> String {
        let node = self.some(&[Kind::Node]);
        let edge = self.some(&[Kind::Edge]);
        let number = self.some(&[Kind::Number]);
        let path = self.some(&[Kind::Path, Kind::FreePath]);
        let edges = self.some(&[Kind::Edges]);
        match (self.below(12), node, edge, number, path, edges) {
            (0..=3, Some(node), ..) => format!("{node}.x"),
            (4, Some(node), ..) => format!("{node}.id"),
            (5..=6, _, Some(edge), ..) => format!("{edge}.id"),
            (7, _, _, Some(number), ..) => number,
            (8, _, _, _, Some(path), _) => format!("PATH_LENGTH({path})"),
            (9, _, _, _, _, Some(edges)) => {
                let folded = self.pick(&["SIZE(?)", "SUM(?.id)", "COUNT(?)", "MIN(?.w)"]);
                folded.replace('?', &edges)
            }
            (10, Some(node), ..) => format!("DEGREE({node})"),
            (11, Some(node), ..) => {
                let arrow = self.pick(&["-[:R]->", "<-[]-", "~[]~"]);
                let counted = self.pick(&[
                    "COUNT(*)",
                    "COUNT(DISTINCT z.x)",
                    "SUM(z.x)",
                    "COALESCE(MAX(z.id), -1) + COUNT(*)",
                    "SIZE(COLLECT_LIST(z.x))",
                    "COUNT(z) + SUM(?.x)",
                ]);
                let counted = counted.replace('?', &node);
                let kept =
                    self.pick(&["", "", " WHERE z.x > ?.x", " FILTER z.id <> ?.id"]).replace('?', &node);
                format!("VALUE {{ MATCH ({node}){arrow}(z){kept} RETURN {counted} }}")
            }
            _ => self.below(3).to_string(),
        }
    }

    /// A value whose type says little.
    fn value(&mut self) -> String {
        let element = self.some(&[Kind::Node, Kind::Edge, Kind::Path]);
        let mixed = self.some(&[Kind::Node]);
        match (self.below(6), element, mixed) {
            (0, Some(element), _) => element,
            (1, _, Some(node)) => format!("{node}.m"),
            _ => self.number(),
        }
    }

    fn condition(&mut self, depth: usize) -> String {
        if depth > 0 && self.chance(0.35) {
            let (a, b) = (self.condition(depth - 1), self.condition(depth - 1));
            let joined = self.pick(&["AND", "AND", "OR", "XOR"]);
            return format!("({a} {joined} {b})");
        }
        if depth > 0 && self.chance(0.1) {
            let inner = self.condition(depth - 1);
            return format!("NOT {inner}");
        }
        let (a, b) = (self.some(&[Kind::Node]), self.some(&[Kind::Node]));
        match (self.below(14), a, b) {
            (0, Some(a), Some(b)) => format!("{a} {} {b}", self.pick(&["=", "<>"])),
            (1, Some(a), Some(b)) => format!("{a}.m = {b}.m"),
            (2, Some(a), _) => format!("{a}.x IS {}NULL", self.pick(&["", "NOT "])),
            (3, Some(a), _) => format!("{a} IS LABELED :{}", self.pick(&["A", "B", "A&B"])),
            (4, Some(a), _) => {
                let label = self.label();
                let step = self.pick(&["-[:R]->", "<-[:S]-", "-[]-+", "-[]->{1,2}", "~[]~*"]);
                format!("EXISTS {{ ({a}){step}({label}) }}").replace("(:", "(f:")
            }
            (5, Some(a), Some(b)) => format!("EXISTS {{ ({a})-[]->{{1,2}}({b}) }}"),
            (6, Some(a), _) => format!("{a}.x IN [0, {}]", self.pick(&["1", "NULL", "1.0"])),
            (7, Some(a), _) => format!("{a}.x BETWEEN 1 AND 2"),
            (8, Some(a), Some(b)) => format!("ALL_DIFFERENT({a}, {b})"),
            (9, Some(a), Some(b)) => format!("{a}.id < {b}.id"),
            (10, Some(a), _) => {
                format!("VALUE {{ MATCH ({a})-[]-(z) RETURN COUNT(*) }} {} 1", self.pick_comparison())
            }
            _ => {
                let (a, b) = (self.number(), self.number());
                format!("{a} {} {b}", self.pick_comparison())
            }
        }
    }

    fn aggregate(&mut self) -> String {
        let value = self.number();
        let any = self.value();
        if let Some(edges) = self.some(&[Kind::Edges])
            && self.chance(0.3)
        {
            return self
                .pick(&["MAX(SIZE(?))", "SUM(SIZE(?))", "SUM(SUM(?.id))", "COUNT(DISTINCT SIZE(?))"])
                .replace('?', &edges);
        }
        match self.below(9) {
            0..=2 => "COUNT(*)".into(),
            3 => format!("COUNT({any})"),
            4 => format!("COUNT(DISTINCT {any})"),
            5 => format!("SUM({value})"),
            6 => format!("MIN({value})"),
            7 => format!("MAX({value})"),
            _ => format!("SUM(DISTINCT {value})"),
        }
    }

    /// A RETURN; what it leaves behind are the variables of the next part.
    fn result(&mut self, last: bool) -> (String, Compared) {
        let grouped = self.chance(0.4);
        let distinct = !grouped && self.chance(0.3);
        let mut items = vec![];
        let mut columns = vec![];
        let count = if grouped { self.below(3) } else { 1 + self.below(3) };
        for i in 0..count {
            let value = self.value();
            columns.push((format!("c{i}"), Kind::Mixed));
            items.push(format!("{value} AS c{i}"));
        }
        let aggregates = if grouped { 1 + self.below(2) } else { 0 };
        for i in 0..aggregates {
            let aggregate = self.aggregate();
            columns.push((format!("g{i}"), Kind::Number));
            items.push(format!("{aggregate} AS g{i}"));
        }
        let mut text = format!("RETURN {}{}", if distinct { "DISTINCT " } else { "" }, items.join(", "));
        let mut compared = Compared::Multiset;
        let in_order = !grouped || count == 0;
        if last && self.chance(0.3) {
            // By all columns, so that ties are rows that are the same.
            let keys: Vec<String> = columns
                .iter()
                .map(|(name, _)| format!("{name}{}", if in_order { "" } else { " DESC" }))
                .collect();
            text = format!("{text} ORDER BY {}", keys.join(", "));
            compared = Compared::Ordered;
            if self.chance(0.6) {
                text = format!("{text} LIMIT {}", self.below(4));
            }
            if items.iter().any(|item| item.starts_with(['n', 'e', 'p']) && !item.contains('.')) {
                // Elements are ordered by their numbers, which differ from snapshot to snapshot.
                compared = if text.contains("LIMIT") { Compared::Count } else { Compared::Multiset };
            }
        } else if last && self.chance(0.08) {
            text = format!("{text} LIMIT {}", 1 + self.below(3));
            compared = Compared::Count;
        }
        self.variables = columns;
        (text, compared)
    }
}
