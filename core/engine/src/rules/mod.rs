//! Rules: everything that makes a plan differ from the plain way to run a query. Each has a name by which a
//! request turns it off, and the reason why the answer stays the same. With all of them off patterns are run
//! by nested expansion in the order in which they are written, their conditions are tested on whole rows,
//! subqueries run once a row, and groups are made of real rows: slow, and obviously right.
//!
//! The tests run random queries with all rules off, with each of them on alone, and with random sets of them.

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
        "A FILTER right after a MATCH keeps the rows that WHERE would keep; one with a subquery stays where it is, unless that only asks for an edge.";
    JoinedPatterns "joined-patterns"
        "MATCH after MATCH has the rows of one pattern in which edges need differ only where they are of the same MATCH. Which of several failing conditions raises its error is not defined.";
    LetInPlace "let-in-place"
        "What LET names is the same wherever it is read, as long as no row changes. Properties, which have no errors, are read where they are wanted; what is computed of them only where the next clause reads it: for a row that is dropped for another reason its error may not be raised.";
    DifferentEdges "different-edges"
        "That two edges of a pattern are different is what one MATCH says of its edges: bound edges are not null.";
    EarlyConditions "early-conditions"
        "A conjunct of WHERE keeps a row or drops it whatever is bound later, so that it may be tested as soon as its variables are bound. Which of several failing conjuncts raises its error is not defined.";
    UnreadPaths "unread-paths"
        "A path that nothing reads adds no row and takes none away, so that it need not be made.";
    LengthsAlone "lengths-alone"
        "Where of a path only its length is read, the number of its edges is enough. All shortest paths between two nodes are of one length: where nobody can tell how often a row comes, and nothing along them is read, one of them says as much as all.";
    PatternOrder "pattern-order"
        "The rows of a pattern are a multiset: the order in which its nodes are bound does not change them. A search waits for what its conditions read.";
    KeyLookup "key-lookup"
        "A key finds every element whose properties equal the given values, and the elements without all of them are equal to nothing. Values that cannot be compared with the key's are left to the scan, which raises the error.";
    SeveralKeys "several-keys"
        "A node that has one of several labels is found by the keys of these labels, where each has one over the properties whose values are given. In a closed graph a node that has a value of a property is of one of the types that have the property.";
    IndexLookup "index-lookup"
        "As for keys; the conditions are tested again on what an index finds.";
    HashJoin "hash-join"
        "Parts of a pattern joined by equalities have the rows of their product that satisfy them. Null and NaN are equal to nothing; values that cannot be compared are compared pair by pair, so that the error is raised.";
    ProbeEdge "probe-edge"
        "An edge between two bound nodes is an edge of the one whose other end is the other.";
    ExistsInPattern "exists-in-pattern"
        "An EXISTS of one edge between two nodes of the pattern, of which only labels and direction are asked, keeps the rows for which there is such an edge: the first one that is found is enough, and it may be looked for together with the pattern's own. Where the edge is repeated, the ends that are reached from a node, each once, are those for which there is a path.";
    CommonNeighbours "common-neighbours"
        "A node that has an edge with several bound ones is a neighbour of each: the rows of the expansion and the probes, in another order.";
    InlineParts "inline-parts"
        "A parenthesised part without quantifier, mode and name says what its elements say in its place. Where two names meet at one node it stays a part.";
    TrailPattern "trail-pattern"
        "Within one MATCH no edge comes twice, so that a TRAIL over the whole of it asks for nothing more.";
    RepeatedEdge "repeated-edge"
        "A repeated single edge needs no automaton: what it binds follows from the path.";
    DistinctEnds "distinct-ends"
        "Where the query cannot tell how often a row comes and reads nothing of the path, only which ends are reached matters; where one path to each end is asked for, each comes once. A start reached again over edges that go both ways must lie on a real cycle; another edge of the MATCH must not coincide, unless it leaves the end or enters the start of a repetition that goes one way: a way that takes no node twice has no such edge.";
    EndFirst "end-first"
        "As for the order of a pattern: whether a search's end is found before the search or by it does not change the rows. Where few nodes satisfy the end's own conditions it is looked up first.";
    EndOnce "end-once"
        "Whether an end can be reached from a node does not depend on which of many rows asks: for rows with one end it is looked up in one spread from there, where no condition reads the row.";
    BothEnds "both-ends"
        "A shortest or cheapest path between two bound nodes is one from the one end and one from the other that meet.";
    ShortestByWalk "shortest-by-walk"
        "Between two different nodes a shortest walk over one repeated edge, and a cheapest one that is found first, takes no node twice: it is a trail, acyclic and simple. A shortest walk back to its start is simple as well; trails back are searched for as such, and none is acyclic.";
    DistanceBounds "distance-bounds"
        "A bound says what a path between two nodes costs at least; it was learnt from the edges, or every edge was compared with it, and those changed since are compared again. A search that follows what costs least together with what is left at least comes to the end by a cheapest path, as no other can cost less than it was given. It is asked only where one path is wanted, of whichever mode: a cheapest one takes no node twice.";
    CappedPaths "capped-paths"
        "What adds up along a path of numbers that are not negative only grows, as do the number of its edges and the greatest of its numbers: where a condition sets a bound to that and a path is past it, so are all that begin with this path, and none of them is a row; of a search for least sums all that comes later costs as much. Whether numbers are negative is looked up before the search begins; the conditions are tested again on whole paths.";
    CappedEnds "capped-ends"
        "Where nobody asks how many paths lead to an end, or which, and the bound is on a sum of numbers that are not negative, an end is reached exactly where a path of the least sum satisfies it. A cheapest path takes no node twice; one back to the start is put together from two cheapest ways that begin with different edges. Where values are to follow each other in an order, the way to a node whose last value leaves the most room leads wherever any other leads; one that comes back to a node has less room than it had there, so that the ways found take no node twice. Where nothing else reads the paths the search tests the condition itself: a sum of whole numbers is the one that SUM has, and of other numbers the path is made and added up.";
    GuidedSearch "guided-search"
        "What is left from a node to the end of a search over one repeated edge, measured over all walks, is never more than what a path of any mode needs from there: paths come in the order of what they cost when beginnings are followed in the order of what they cost and what is left. Sums of weights do not depend on their order. An enumeration with a longest length leaves out what cannot get to its bound end within it; near the end it looks edges up among the nodes that can.";
    ExistsOnce "exists-once"
        "EXISTS asks whether there is a row: one for each outer row is enough.";
    SubqueryPerBatch "subquery-per-batch"
        "A subquery of patterns, filters and values makes each of its rows from one outer row, so that it may run for many of them at once, its rows numbered by theirs. One that orders, groups or cuts its rows runs once a row.";
    AggregatePerBatch "aggregate-per-batch"
        "A subquery that ends in aggregates alone has one row for each outer row: that of the group with the outer row's number or, where it has no rows, what the aggregates are of nothing.";
    SubqueryOnce "subquery-once"
        "A subquery that reads nothing of the outer rows and changes nothing has the same rows for all of them.";
    CountedRows "counted-rows"
        "Counts, sums and means need the number of rows that the last step makes of each, not the rows, where neither keys nor aggregates read what it binds; least and greatest values, and those of distinct values, are the same however often. A count of zero is no row.";
    CountedWalks "counted-walks"
        "The ways of three edges between two bound nodes are counted from the edges of one of them; ways that take an edge twice are subtracted.";
    CountedTriangles "counted-triangles"
        "A triangle has one node of the lowest rank: counted from there each is counted once, times the ways to write it, of which conditions that put its nodes in an order let some through.";
    TrianglesOnce "triangles-once"
        "DISTINCT rows of three different nodes do not tell how many edges lie between two of them: each three nodes are listed once, from the one of the lowest rank, in the orders that the conditions let through. Where all three, or their keys, are among the columns, such rows are distinct already.";
    LateItems "late-items"
        "Items that an ORDER BY with LIMIT does not read are the same whether they are computed of all rows or of those that stay.";
    TopParts "top-parts"
        "The first rows of all are among the first rows of each part, in which equal ones keep their order. What later keys and items read, which raises no errors, is wanted only of rows that the first key lets be among them.";
    TopRows "top-rows"
        "ORDER BY with LIMIT keeps the first rows; ties keep the order in which they came.";
    TypedReads "typed-reads"
        "Whole numbers, floats and dates read straight from their columns, for all rows of a batch or one by one, are the values; where one is of another type, or an operation has no result, the general way decides.";
    KnownNodes "known-nodes"
        "A condition that reads one node and nothing else of the row has the same answer wherever that node comes, as long as nothing is changed.";
    CountOfBound "count-of-bound"
        "What a pattern has bound is not null, nor is a property that the graph's type says to be there: counting it is counting rows.";
    MergedRows "merged-rows"
        "Rows that agree in all that is read of them later have the same rows after them: one of them, with how many it stands for, does. An edge that the next step must not take again tells rows apart only where that step could take it.";
    MergedEnds "merged-ends"
        "Of rows of which only the node that an edge leads to is read later, those with one node are merged where the edge is followed. A row whose edge the next step could take again stays apart.";
    KeysAlone "keys-alone"
        "Groups of which nothing is asked but what they are grouped by are the distinct rows.";
    DistinctParts "distinct-parts"
        "A set operation without ALL has the same rows whether or not each of its sides is made distinct before.";
    KnownCounts "known-counts"
        "How many edges a step finds depends on the node that it begins at alone, where its conditions read nothing else of the row and no edge of the row could be taken again from there: it is counted once a node.";
    FixedRepetition "fixed-repetition"
        "So many times one part, of which nothing is read from outside, is that many parts written one after the other, with names of their own.";
    FoldedPaths "folded-paths"
        "Where an aggregation reads of a repeated edge only its end, how many paths lead there, and sums or products along each that are added, or sums of which the least or greatest is wanted, these follow hop by hop from those of the nodes before. Walks are so counted on any graph; paths of the other modes are the walks where nothing within reach has a cycle. Where it has one, a trail or acyclic path of any length goes through the strong components one after the other and shares nothing between them, so that only the ways within each are made; what has a longest length, and simple paths, are made whole. Where only least sums of numbers that are not negative are wanted, a cheapest way serves in every mode, and none is made. Whole numbers are exact; floats are added in another order, so that their last digits may differ. What mixes kinds of numbers or has nulls is left to the paths.";
    RingAsRepetition "ring-as-repetition"
        "A ring of edges that are alike, written one by one, of whose edges and inner nodes nothing is read, is one edge repeated so many times from its node back to it. Where it is said of each two of its nodes that they are different, it is simple: that is what the mode says.";
    PathsBetween "paths-between"
        "Where only how many paths lead from one node to another is asked, and how long they are, their last three edges are counted for all paths with one beginning together: of the walks of three edges to the end those take nothing twice that are left when those that take an edge (or node) of the beginning, or one of their own, are taken away, each once.";
    GroupParts "group-parts"
        "Counts, sums, least and greatest values and percentiles of rows follow from those of parts of the rows, whatever the parts: numbers are added without rounding, and of equal values that are written differently one is preferred. Groups are in the order of their first rows. Lists, products, deviations and sums of distinct values are made of all rows at once.";
    ShareOut "share-out"
        "Operators that treat each row by itself give the same rows, in the same order, whichever thread runs them.";
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
