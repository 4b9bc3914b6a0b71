//! Rules: every difference between a plan and the plain way to run a query. A rule has a name, by which a request turns
//! it off, and a reason why the answer stays the same. With all rules off, patterns run by nested expansion in the order
//! in which they are written, conditions are tested on complete rows, subqueries run once for each row, and groups are
//! built from real rows: slow, and obviously right.
//!
//! The tests run random queries with all rules off, with each rule on alone, and with random sets of rules.

use std::fmt;
use std::str::FromStr;

macro_rules! rules {
    ($($variant:ident $name:literal $reason:literal;)+) => {
        #[derive(Clone, Copy, Debug, PartialEq, Eq)]
        pub enum Rule { $($variant),+ }

        impl Rule {
            pub const ALL: &[Rule] = &[$(Rule::$variant),+];

            pub fn name(self) -> &'static str {
                match self { $(Rule::$variant => $name),+ }
            }

            /// Why the answer stays the same.
            pub fn reason(self) -> &'static str {
                match self { $(Rule::$variant => $reason),+ }
            }
        }
    };
}

rules! {
    FilterIntoPattern "filter-into-pattern"
        "A FILTER directly after a MATCH keeps the same rows as WHERE would. A FILTER with a subquery stays where it is, unless the subquery only asks for one edge.";
    JoinedPatterns "joined-patterns"
        "Consecutive MATCH clauses have the rows of one pattern in which edges must differ only within the same MATCH. If several conditions fail, which of them raises its error is not defined.";
    LetInPlace "let-in-place"
        "A LET name has the same value wherever it is read, as long as no row changes. Property reads cannot fail and are moved freely. A computed value moves only if the next clause reads it: a row dropped for another reason may then not raise its error.";
    DifferentEdges "different-edges"
        "A condition that two edges of a pattern differ repeats the rule for edges of one MATCH. Bound edges are never null.";
    EarlyConditions "early-conditions"
        "A conjunct of WHERE keeps or drops a row whatever is bound later, so it is tested as soon as its variables are bound. If several conjuncts fail, which of them raises its error is not defined.";
    UnreadPaths "unread-paths"
        "A path value that nothing reads neither adds nor removes rows.";
    LengthsAlone "lengths-alone"
        "If only the length of a path is read, the number of edges suffices. All shortest paths between two nodes have the same length: if row multiplicity does not matter and nothing along the paths is read, one path is as good as all.";
    PatternOrder "pattern-order"
        "The rows of a pattern are a multiset, so the order in which its nodes are bound does not change them. A search runs after everything its conditions read is bound.";
    KeyLookup "key-lookup"
        "A key finds every element whose properties equal the given values; elements without all of the properties equal nothing. Values of a type that cannot be compared with the key are left to the scan, which raises the error.";
    SeveralKeys "several-keys"
        "A node with one of several labels is found through the keys of those labels if each has a key over the given properties. In a closed graph a node that has a property belongs to one of the types that declare it.";
    IndexLookup "index-lookup"
        "As for keys. The conditions are tested again on the elements that the index returns.";
    HashJoin "hash-join"
        "Pattern parts joined by equalities have the rows of their product that satisfy the equalities. Null and NaN equal nothing. Values that cannot be compared are compared pair by pair, so the error is raised.";
    RangeJoin "range-join"
        "Pattern parts joined by comparisons have the rows of their product that satisfy them. In the order of a value the rows within bounds are a stretch; null and NaN lie within none. Values that cannot be compared are compared pair by pair, so the error is raised.";
    HashedEdges "hashed-edges"
        "If conditions equate values of a new edge, or of its far node, with values of the row, a node with many edges that many rows come to gets a hash table of its edges by these values, and each row looks only at the edges with its own. Null and NaN equal nothing. Values that cannot be compared, or raise errors, are tested edge by edge.";
    ProbeEdge "probe-edge"
        "An edge between two bound nodes is found in the adjacency of either one, by the other as its end.";
    ExistsInPattern "exists-in-pattern"
        "An EXISTS of one edge between two nodes of the pattern, with conditions on labels and direction only, keeps the rows that have such an edge: the first one found suffices, and the search for it may be ordered with the pattern's own steps. For a repeated edge, the ends reached from a node, each once, are exactly those with a path.";
    CommonNeighbours "common-neighbours"
        "A node with an edge to each of several bound nodes is a neighbour of all of them: the intersection has the rows of the expansion followed by the probes, in another order.";
    InlineParts "inline-parts"
        "A parenthesised part without quantifier, mode or name means the same as its elements written in its place. It stays a part if two names would meet at one node.";
    TrailPattern "trail-pattern"
        "Edges of one MATCH are all different, so TRAIL over the whole of it adds nothing.";
    RepeatedEdge "repeated-edge"
        "A single repeated edge needs no automaton: its bindings follow from the path.";
    DistinctEnds "distinct-ends"
        "If row multiplicity does not matter and nothing of the path is read, only the reached ends matter; if one path to each end is asked for, each end comes once. A start that is reached again over edges walked both ways must lie on a real cycle. Another edge of the same MATCH must not coincide with one of the path, unless it leaves the end, or enters the start, of a one-way repetition: a path that repeats no node contains no such edge.";
    EndFirst "end-first"
        "As for pattern-order: finding the end before the search or through it gives the same rows. If few nodes satisfy the end's own conditions, they are looked up first.";
    EndOnce "end-once"
        "Whether a node reaches an end does not depend on which row asks: rows that share an end are answered by one traversal from it, provided that no condition reads the row.";
    BothEnds "both-ends"
        "A shortest or cheapest path between two bound nodes consists of two halves, one from each end, that meet.";
    ShortestByWalk "shortest-by-walk"
        "Between two different nodes, a shortest walk over one repeated edge, and a cheapest walk that is found first, repeat no node; they are therefore also trails, acyclic and simple. A shortest closed walk is simple as well; closed trails are searched for as such, and no closed path is acyclic.";
    DistanceBounds "distance-bounds"
        "A distance bound states the least cost of any path between two nodes. It was derived from the edges, or every edge was checked against it, and edges changed since are checked again. A search ordered by cost so far plus least remaining cost reaches the end by a cheapest path. It is used only if one path is asked for, in any mode: a cheapest path repeats no node.";
    CappedPaths "capped-paths"
        "A sum of non-negative numbers along a path, the number of edges and the greatest value only grow. Once they exceed a bound given by a condition, every extension of the path exceeds it too, so none of them is a row; a least-sum search can stop there. The sign of the numbers is checked before the search starts, and the conditions are tested again on complete paths.";
    CappedEnds "capped-ends"
        "If neither the number of paths to an end nor the paths themselves are asked for, and the bound is on a sum of non-negative numbers, an end qualifies exactly if a least-sum path to it satisfies the bound. A cheapest path repeats no node; a closed one is assembled from two cheapest paths with different first edges. If values must follow an order, the path whose last value leaves the most room reaches every node that any other path reaches; returning to a node leaves less room than before, so these paths repeat no node. If nothing else reads the paths, the search tests the condition itself: a sum of whole numbers equals SUM exactly; for other numbers the path is built and summed.";
    GuidedSearch "guided-search"
        "For one repeated edge, the remaining distance over walks is a lower bound for paths of every mode, so extending prefixes by cost so far plus remaining cost yields paths in order of cost. Sums of weights do not depend on their order. An enumeration with a maximum length skips nodes that cannot reach the bound end in the remaining hops, and near the end looks up edges among the nodes that can.";
    AlternativesAsList "alternatives-as-list"
        "An OR of comparisons of one expression with known values is true, false or unknown exactly when IN over the list of these values is. For a row that the list accepts, another disjunct may then not raise its error.";
    KnownLists "known-lists"
        "Whether a value equals one of a list of known values is found in a hash table of the list, provided that all of its values are of one type and the value is too. Other values are compared one by one, and raise the errors that comparisons raise.";
    ListedKeys "listed-keys"
        "A property that is IN a list equals one of its values; each distinct value is looked up by a key or an index in turn. Null and NaN equal nothing, and an element that has one of the values equals no other.";
    ExistsOnce "exists-once"
        "EXISTS asks whether there is a row, so one row for each outer row suffices.";
    SubqueryPerBatch "subquery-per-batch"
        "A subquery of patterns, filters and values derives each of its rows from one outer row, so it can run for a whole batch, each row carrying the number of its outer row. A subquery that orders, groups or limits its rows runs once for each outer row.";
    AggregatePerBatch "aggregate-per-batch"
        "A subquery that ends in aggregates has one row for each outer row: the group with the outer row's number or, if that group is empty, the aggregates of no rows.";
    SubqueryOnce "subquery-once"
        "A subquery that reads nothing of the outer rows and changes nothing has the same rows for each of them.";
    CountedRows "counted-rows"
        "Counts, sums and means need only the number of rows that the last step adds for each input row, provided that neither keys nor aggregates read what the step binds. Least and greatest values and aggregates of distinct values do not depend on multiplicity. An input row that leads to no row is dropped.";
    CountedWalks "counted-walks"
        "The walks of three edges between two bound nodes are counted from the edges of one of them; walks that repeat an edge are subtracted.";
    CountedTriangles "counted-triangles"
        "Every triangle has one node of the lowest rank. Counting from that node counts each triangle once; the count is multiplied by the number of ways to write the triangle that the conditions on the order of its nodes allow.";
    TrianglesOnce "triangles-once"
        "DISTINCT rows of three different nodes do not show how many edges connect two of them, so each node triple is listed once, from its node of the lowest rank, in the orders that the conditions allow. If all three nodes, or their keys, are among the columns, the rows are distinct already.";
    LateItems "late-items"
        "Items that an ORDER BY with LIMIT does not read have the same values whether they are computed for all rows or only for the rows that remain.";
    TopParts "top-parts"
        "The first rows overall are among the first rows of each part, and each part keeps the order of equal rows. Later keys and items, which cannot raise errors, are read only for rows that may be among the first by their first key.";
    TopRows "top-rows"
        "ORDER BY with LIMIT keeps the first rows; ties keep their input order.";
    TypedReads "typed-reads"
        "Whole numbers, floats, dates and texts read directly from their columns, for a batch or for one row, are the property's values. If a value has another type, or an operation has no result, the general evaluation is used.";
    KnownNodes "known-nodes"
        "A condition that reads one node and nothing else of the row has the same result wherever that node occurs, as long as nothing is changed.";
    KnownTexts "known-texts"
        "A condition, key or aggregate argument that reads one property of one element and nothing else has the same result wherever the property has the same text, so it is evaluated once for each distinct text of a column.";
    CountOfBound "count-of-bound"
        "A variable bound by a pattern is not null, nor is a property that the graph type declares NOT NULL: counting it counts rows.";
    MergedRows "merged-rows"
        "Rows that agree in everything read of them later lead to the same rows, so one row with a count replaces them. An edge that the next step must not take again distinguishes rows only if the step could take it.";
    MergedEnds "merged-ends"
        "Of rows of which only the node at the end of an edge is read later, those with the same node are merged while the edge is followed. A row whose edge the next step could take again is kept apart.";
    ToldByNode "told-by-node"
        "If a key says that no two nodes a variable can be have the same values, and the graph type that none lacks them, rows grouped or made distinct by these values are so by the node; whatever else follows from the node alone adds nothing. The same holds for expressions beside the node or edge itself.";
    KeysAlone "keys-alone"
        "Groups of which only the keys are returned are the distinct rows.";
    DistinctParts "distinct-parts"
        "A set operation without ALL has the same rows whether or not its sides are made distinct first.";
    KnownCounts "known-counts"
        "The number of edges that a step finds depends only on its start node if its conditions read nothing else of the row and no edge of the row could be taken again. It is counted once for each node.";
    FixedRepetition "fixed-repetition"
        "A part repeated a fixed number of times, of which nothing is read from outside, equals as many copies written in sequence, with names of their own.";
    FoldedPaths "folded-paths"
        "If an aggregation reads only the end of a repeated edge, the number of paths to it, and sums or products along each path that are added up, or sums of which the least or greatest is wanted, these values follow hop by hop from those of the nodes before. Walks are counted this way on any graph; paths of other modes equal the walks if the reachable part has no cycle. If it has one, an unbounded trail or acyclic path passes through the strong components in order and shares nothing between them, so only the paths within each component are enumerated; paths with a maximum length and simple paths are enumerated whole, except that the number of trails of up to three edges follows from that of the walks by inclusion and exclusion. If only least sums of non-negative numbers are wanted, a cheapest path serves every mode. Whole numbers are exact; floats are added in another order, so their last digits may differ. Mixed number types and nulls are left to enumeration.";
    RingAsRepetition "ring-as-repetition"
        "A ring of alike edges, written out, of whose edges and inner nodes nothing is read, equals one edge repeated as often from its node back to it. If conditions make all its nodes different, it is a simple path.";
    PathsBetween "paths-between"
        "If only the number of paths between two nodes and their lengths are asked for, the last three edges are counted for all paths with the same prefix together: from the walks of three edges to the end those that reuse an edge (or node) of the prefix, or one of their own, are subtracted by inclusion and exclusion.";
    GroupParts "group-parts"
        "Counts, sums, least and greatest values and percentiles follow from those of parts of the rows, however the rows are split: numbers are added without rounding, and of equal values written differently one is preferred. Groups keep the order of their first rows. Lists, products, deviations and sums of distinct values are computed from all rows at once.";
    ShareOut "share-out"
        "Operators that process each row by itself give the same rows in the same order, whichever thread runs them.";
}

/// The rules that a plan may use.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct Rules(u64);

impl Default for Rules {
    fn default() -> Rules {
        Rules::all()
    }
}

impl Rules {
    pub fn all() -> Rules {
        Rules((1u64 << Rule::ALL.len()) - 1)
    }

    pub fn none() -> Rules {
        Rules(0)
    }

    pub fn without(self, rule: Rule) -> Rules {
        Rules(self.0 & !(1u64 << rule as u32))
    }

    pub fn with(self, rule: Rule) -> Rules {
        Rules(self.0 | 1u64 << rule as u32)
    }

    pub fn has(self, rule: Rule) -> bool {
        self.0 & (1u64 << rule as u32) != 0
    }

    /// Those that are off.
    pub fn off(self) -> impl Iterator<Item = Rule> {
        Rule::ALL.iter().copied().filter(move |rule| !self.has(*rule))
    }

    /// All but those named; `all` names every one of them.
    pub fn all_but<S: AsRef<str>>(names: &[S]) -> Result<Rules, UnknownRule> {
        let mut rules = Rules::all();
        for name in names {
            if name.as_ref() == "all" {
                rules = Rules::none();
            } else {
                rules = rules.without(name.as_ref().parse()?);
            }
        }
        Ok(rules)
    }
}

#[derive(Clone, Debug, PartialEq, Eq)]
pub struct UnknownRule(pub String);

impl fmt::Display for UnknownRule {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let names: Vec<&str> = Rule::ALL.iter().map(|rule| rule.name()).collect();
        write!(f, "there is no rule '{}'; the rules are all, {}", self.0, names.join(", "))
    }
}

impl std::error::Error for UnknownRule {}

impl FromStr for Rule {
    type Err = UnknownRule;

    fn from_str(name: &str) -> Result<Rule, UnknownRule> {
        Rule::ALL.iter().copied().find(|rule| rule.name() == name).ok_or_else(|| UnknownRule(name.into()))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn rules_are_turned_off_by_name() {
        let rules = Rules::all_but(&["hash-join", "top-rows"]).expect("known");
        assert_eq!(rules.off().collect::<Vec<_>>(), [Rule::HashJoin, Rule::TopRows]);
        assert_eq!(Rules::all_but(&["all"]), Ok(Rules::none()));
        let error = Rules::all_but(&["hashjoin"]).expect_err("unknown").to_string();
        assert!(error.contains("'hashjoin'") && error.contains("hash-join"), "{error}");
        for rule in Rule::ALL {
            assert_eq!(rule.name().parse(), Ok(*rule));
            assert!(rule.reason().ends_with('.'));
        }
    }

    #[test]
    fn the_page_about_rules_lists_them_all_with_their_reasons() {
        let page = include_str!("../../../../docs/architecture.md");
        let listed: Vec<&str> = page.lines().filter(|line| line.starts_with("| `")).collect();
        for rule in Rule::ALL {
            let line = format!("| `{}` | {} |", rule.name(), rule.reason());
            assert!(listed.contains(&line.as_str()), "docs/architecture.md lacks: {line}");
        }
    }
}
