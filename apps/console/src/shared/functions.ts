// What the language's functions, aggregates and keywords are, for completion and for the help beside the cursor. A test
// holds the names against those of docs/language.md.

export interface Help {
  signature: string;
  text: string;
}

type Rows = [name: string, parameters: string, text: string][];

const FUNCTIONS: Rows = [
  ["CHAR_LENGTH", "text", "How many characters it has."],
  ["BYTE_LENGTH", "text or bytes", "How many bytes it has, a text in UTF-8."],
  ["UPPER", "text", "In capitals."],
  ["LOWER", "text", "In small letters."],
  ["TRIM", "text [, characters] or list, n", "Without blanks, or these characters, at both ends; a list without its last n elements."],
  ["BTRIM", "text [, characters]", "Without blanks, or these characters, at both ends."],
  ["LTRIM", "text [, characters]", "Without blanks, or these characters, at its beginning."],
  ["RTRIM", "text [, characters]", "Without blanks, or these characters, at its end."],
  ["LEFT", "text, n", "Its first n characters."],
  ["RIGHT", "text, n", "Its last n characters."],
  ["NORMALIZE", "text [, NFC, NFD, NFKC or NFKD]", "In one of Unicode's normal forms."],
  ["SUBSTRING", "text FROM first [FOR n]", "Its characters from the first wanted on, counted from 1."],
  ["POSITION", "part IN text", "Where the part begins in it, counted from 1; 0 where it is not in it."],
  ["SPLIT", "text, separator", "The list of what stands between separators."],
  ["REPLACE", "text, old, new", "With each occurrence of the old replaced by the new."],
  ["ABS", "number or duration", "Without its sign."],
  ["MOD", "a, b", "What is left of a divided by b; it has the sign of a."],
  ["ROUND", "x [, digits]", "To so many digits behind the point."],
  ["FLOOR", "x", "The greatest whole number that is not above it."],
  ["CEIL", "x", "The least whole number that is not below it."],
  ["SQRT", "x", "Its square root."],
  ["EXP", "x", "e to the power of it."],
  ["LN", "x", "Its natural logarithm."],
  ["LOG", "base, x", "Its logarithm to a base."],
  ["LOG10", "x", "Its logarithm to the base 10."],
  ["POWER", "x, y", "x to the power of y."],
  ["SIN", "x", "Of an angle in radians."],
  ["COS", "x", "Of an angle in radians."],
  ["TAN", "x", "Of an angle in radians."],
  ["COT", "x", "Of an angle in radians."],
  ["SINH", "x", "The hyperbolic sine."],
  ["COSH", "x", "The hyperbolic cosine."],
  ["TANH", "x", "The hyperbolic tangent."],
  ["ASIN", "x", "The angle in radians whose sine it is."],
  ["ACOS", "x", "The angle in radians whose cosine it is."],
  ["ATAN", "x", "The angle in radians whose tangent it is."],
  ["DEGREES", "radians", "The angle in degrees."],
  ["RADIANS", "degrees", "The angle in radians."],
  ["CARDINALITY", "list, record or path", "How many elements it has."],
  ["SIZE", "list, record or path", "How many elements it has."],
  ["ELEMENT_ID", "node or edge", "A text that names it as long as it is there."],
  ["PATH_LENGTH", "path", "How many edges it has."],
  ["ELEMENTS", "path", "Its nodes and edges in turn."],
  ["LABELS", "node or edge", "The list of its labels."],
  ["PROPERTIES", "node or edge", "The record of its properties."],
  ["NODES", "path", "The list of its nodes."],
  ["EDGES", "path", "The list of its edges."],
  ["DEGREE", "node", "How many edges it has; a loop is one."],
  ["IN_DEGREE", "node", "How many directed edges end in it."],
  ["OUT_DEGREE", "node", "How many directed edges begin at it."],
  ["COALESCE", "a, b, ...", "The first of them that is not null."],
  ["NULLIF", "a, b", "Null where both are equal, otherwise a."],
  ["ALL_DIFFERENT", "a, b, ...", "Whether no two of these elements are the same."],
  ["SAME", "a, b, ...", "Whether these elements are all the same."],
  ["DATE", "[text, or {year, month, day}]", "A date; without an argument that of today."],
  ["LOCAL_TIME", "[text]", "A time of day."],
  ["ZONED_TIME", "[text]", "A time of day with its displacement from UTC."],
  ["LOCAL_DATETIME", "[text, or zoned, zone]", "A date and time of day; what a zone's clocks show at a moment."],
  ["ZONED_DATETIME", "[text, or local, zone]", "A moment; that at which a zone's clocks show a local time."],
  ["DURATION", "text", "A duration, as in DURATION('P1DT12H')."],
  ["EXTRACT", "YEAR, QUARTER, MONTH, DAY, HOUR, MINUTE or SECOND FROM time", "A part of a date, time or duration."],
  ["TO_DATE", "text, template", "A date as it is written in a template such as 'DD.MM.YYYY'."],
  ["TO_DATETIME", "text, template", "A date and time as they are written in a template."],
  ["DURATION_BETWEEN", "a, b", "The duration from a to b; [YEAR TO MONTH] or [DAY TO SECOND] may follow."],
];

const AGGREGATES: Rows = [
  ["COUNT", "* or [DISTINCT] value", "How many rows, or values that are not null."],
  ["SUM", "[DISTINCT] value", "Their sum; null of nothing."],
  ["AVG", "[DISTINCT] value", "Their mean."],
  ["MIN", "value", "The least of them."],
  ["MAX", "value", "The greatest of them."],
  ["COLLECT_LIST", "[DISTINCT] value", "The list of them, nulls left out."],
  ["PRODUCT", "[DISTINCT] value", "Their product."],
  ["RISING", "value of an edge of a path", "Whether each is greater than the one before it."],
  ["NEVER_FALLING", "value of an edge of a path", "Whether none is less than the one before it."],
  ["FALLING", "value of an edge of a path", "Whether each is less than the one before it."],
  ["NEVER_RISING", "value of an edge of a path", "Whether none is greater than the one before it."],
  ["STDDEV_SAMP", "[DISTINCT] value", "The standard deviation of a sample."],
  ["STDDEV_POP", "[DISTINCT] value", "The standard deviation of all there is."],
  ["PERCENTILE_CONT", "value, share", "The value below which the share lies, between two of them where it falls so."],
  ["PERCENTILE_DISC", "value, share", "The first of them at or above the share."],
];

const WORDS: Rows = [
  ["MATCH", "(a)-[e:LABEL]->(b) WHERE ...", "A row for each place in the graph where the pattern fits."],
  ["OPTIONAL", "MATCH ...", "Keeps rows for which nothing fits, with nulls."],
  ["FILTER", "condition", "Keeps the rows for which it is true."],
  ["LET", "name = value, ...", "Names values for what follows."],
  ["FOR", "x IN list [WITH ORDINALITY i]", "A row for each element of the list."],
  ["RETURN", "[DISTINCT] items [GROUP BY names] [ORDER BY ...] [LIMIT n]", "What comes out; with an aggregate among them the other items are what is grouped by."],
  ["NEXT", "statement", "Goes on from the rows of what stands before."],
  ["CALL", "name({argument: value}) YIELD column", "A measure or a saved query, for each row; CALL { ... } runs a query."],
  ["EXISTS", "{ pattern or query }", "Whether there is a row."],
  ["VALUE", "{ query }", "The one value of its one row."],
  ["TRAIL", "path", "Takes no edge twice."],
  ["ACYCLIC", "path", "Takes no node twice."],
  ["SIMPLE", "path", "Takes no node twice, but may end where it began."],
  ["WALK", "path", "May take nodes and edges again."],
  ["SHORTEST", "k [GROUPS] [BY weight]", "The k shortest paths between each two ends, or all of the k least lengths."],
];

function helps(rows: Rows, calls: boolean): [string, Help][] {
  return rows.map(([name, parameters, text]) => [name, { signature: calls ? `${name}(${parameters})` : `${name} ${parameters}`, text }]);
}

/** By name in capitals. What is called has parentheses in its signature. */
export const CALLED: ReadonlyMap<string, Help> = new Map([...helps(FUNCTIONS, true), ...helps(AGGREGATES, true)]);
export const HELP: ReadonlyMap<string, Help> = new Map([...CALLED, ...helps(WORDS, false)]);
