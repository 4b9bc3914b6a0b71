"""The questions of benches/forms.rs in DuckDB, where it is there, over the same tables: the best median in ms and the rows as JSON."""

import json
import statistics
import sys
import threading
import time

import duckdb

folder, only = sys.argv[1], sys.argv[2] if len(sys.argv) > 2 else ""
LONGEST_S = 20
database = duckdb.connect()
database.execute("SET threads = 2")
database.execute(
    f"CREATE TABLE node AS SELECT * FROM (SELECT * FROM '{folder}/persons.csv' UNION ALL SELECT * FROM '{folder}/documents.csv') ORDER BY id"
)
database.execute(f"CREATE TABLE edge AS SELECT row_number() OVER () AS e, * FROM '{folder}/edges.csv'")

PAIRS = "(SELECT DISTINCT least(source, target) AS a, greatest(source, target) AS b FROM edge WHERE source <> target)"
RING = """SELECT sum(n)::BIGINT FROM (
  SELECT count(*) AS n FROM edge x JOIN edge y ON y.source = x.target JOIN edge z ON z.source = y.target
  WHERE x.source = 4761 AND z.target = 4761 AND x.target <> 4761 AND y.target NOT IN (4761, x.target)
  UNION ALL
  SELECT count(*) FROM edge x JOIN edge y ON y.source = x.target JOIN edge z ON z.source = y.target JOIN edge w ON w.source = z.target
  WHERE x.source = 4761 AND w.target = 4761 AND x.target <> 4761 AND y.target NOT IN (4761, x.target) AND z.target NOT IN (4761, x.target, y.target)
  UNION ALL
  SELECT count(*) FROM edge x JOIN edge y ON y.source = x.target JOIN edge z ON z.source = y.target JOIN edge w ON w.source = z.target
  JOIN edge v ON v.source = w.target
  WHERE x.source = 4761 AND v.target = 4761 AND x.target <> 4761 AND y.target NOT IN (4761, x.target) AND z.target NOT IN (4761, x.target, y.target)
  AND w.target NOT IN (4761, x.target, y.target, z.target))"""

QUESTIONS = {
    "two kinds, two hops, grouped, top 20": [
        """SELECT c.id, count(*) AS n FROM node a JOIN edge e ON e.source = a.id JOIN node b ON b.id = e.target
           JOIN edge f ON f.source = b.id JOIN node c ON c.id = f.target
           WHERE a.kind = 'person' AND b.kind = 'person' AND c.kind = 'document' AND e.n >= 50 AND f.n >= 50 AND e.e <> f.e
           GROUP BY c.id ORDER BY n DESC, c.id LIMIT 20""",
        """WITH into_b AS (SELECT e.target AS b, count(*) AS n FROM edge e JOIN node a ON a.id = e.source WHERE a.kind = 'person' AND e.n >= 50 GROUP BY e.target),
           loops AS (SELECT source AS b, count(*) AS n FROM edge WHERE source = target AND n >= 50 GROUP BY source)
           SELECT c.id, sum(i.n)::BIGINT AS n FROM into_b i JOIN node b ON b.id = i.b JOIN edge f ON f.source = b.id JOIN node c ON c.id = f.target
           WHERE b.kind = 'person' AND c.kind = 'document' AND f.n >= 50 GROUP BY c.id ORDER BY n DESC, c.id LIMIT 20""",
    ],
    "two hops, a number on the far node": [
        """SELECT count(*) FROM node a JOIN edge e ON e.source = a.id JOIN edge f ON f.source = e.target JOIN node c ON c.id = f.target
           WHERE a.kind = 'person' AND e.n >= 50 AND c.score < 0.1 AND e.e <> f.e""",
        """WITH i AS (SELECT e.target AS b, count(*) AS n FROM edge e JOIN node a ON a.id = e.source WHERE a.kind = 'person' AND e.n >= 50 GROUP BY e.target),
           o AS (SELECT f.source AS b, count(*) AS n FROM edge f JOIN node c ON c.id = f.target WHERE c.score < 0.1 GROUP BY f.source),
           l AS (SELECT count(*) AS n FROM edge e JOIN node a ON a.id = e.source WHERE e.source = e.target AND a.kind = 'person' AND e.n >= 50 AND a.score < 0.1)
           SELECT (SELECT sum(i.n * o.n) FROM i JOIN o USING (b))::BIGINT - (SELECT n FROM l)""",
    ],
    "two hops, sum along the edge": [
        """SELECT sum(f.n)::BIGINT FROM node a JOIN edge e ON e.source = a.id JOIN edge f ON f.source = e.target JOIN node c ON c.id = f.target
           WHERE a.kind = 'person' AND c.kind = 'document' AND e.e <> f.e""",
        """WITH i AS (SELECT e.target AS b, count(*) AS n FROM edge e JOIN node a ON a.id = e.source WHERE a.kind = 'person' GROUP BY e.target),
           o AS (SELECT f.source AS b, sum(f.n) AS n FROM edge f JOIN node c ON c.id = f.target WHERE c.kind = 'document' GROUP BY f.source)
           SELECT sum(i.n * o.n)::BIGINT FROM i JOIN o USING (b)""",
    ],
    "walks of three edges from a node by their end, top 10": [
        """SELECT z.target, count(*) AS n FROM edge x JOIN edge y ON y.source = x.target JOIN edge z ON z.source = y.target
           WHERE x.source = 5 GROUP BY z.target ORDER BY n DESC, z.target LIMIT 10""",
        """WITH x AS (SELECT target AS t, count(*) AS n FROM edge WHERE source = 5 GROUP BY target),
           y AS (SELECT e.target AS t, sum(x.n) AS n FROM x JOIN edge e ON e.source = x.t GROUP BY e.target)
           SELECT e.target, sum(y.n)::BIGINT AS n FROM y JOIN edge e ON e.source = y.t GROUP BY e.target ORDER BY n DESC, e.target LIMIT 10""",
    ],
    "triangles in any direction, distinct": [
        f"""WITH p AS {PAIRS} SELECT count(*) FROM p x JOIN p y ON y.a = x.b JOIN p z ON z.a = x.a AND z.b = y.b""",
    ],
    "rings of 3 to 5 through a node": [RING],
    "neighbours that two share": [
        """WITH ends AS (SELECT source AS s, target AS t FROM edge UNION SELECT target, source FROM edge)
           SELECT y.t, count(*) AS n FROM ends x JOIN ends y ON y.s = x.t WHERE x.s = 3 AND y.t <> 3 GROUP BY y.t ORDER BY n DESC, y.t LIMIT 10""",
        """WITH x AS (SELECT target AS t FROM edge WHERE source = 3 UNION SELECT source FROM edge WHERE target = 3),
           y AS (SELECT x.t, e.target AS b FROM x JOIN edge e ON e.source = x.t UNION SELECT x.t, e.source FROM x JOIN edge e ON e.target = x.t)
           SELECT b, count(*) AS n FROM y WHERE b <> 3 GROUP BY b ORDER BY n DESC, b LIMIT 10""",
    ],
    "edges by the town of their end, top 10": [
        """SELECT b.town, count(*) AS n, sum(e.n)::BIGINT AS s FROM edge e JOIN node b ON b.id = e.target GROUP BY b.town ORDER BY s DESC, b.town LIMIT 10""",
    ],
    "edges by two columns": [
        """SELECT count(*), max(n) FROM (SELECT a.town, b.kind, count(*) AS n FROM edge e JOIN node a ON a.id = e.source JOIN node b ON b.id = e.target GROUP BY ALL)""",
    ],
    "distinct days and ends": [
        """SELECT count(DISTINCT e.day), count(DISTINCT b.town), count(DISTINCT e.target) FROM edge e JOIN node b ON b.id = e.target""",
    ],
    "the hundred first edges by two properties": [
        """SELECT count(*), sum(source)::BIGINT, sum(target)::BIGINT FROM (SELECT source, target, n, day FROM edge ORDER BY n DESC, day, source, target LIMIT 100)""",
    ],
    "median of a number by town": [
        """SELECT b.town, quantile_cont(e.n, 0.5) AS m FROM edge e JOIN node b ON b.id = e.target GROUP BY b.town ORDER BY m DESC, b.town LIMIT 5""",
    ],
    "filter and arithmetic over edges": [
        """SELECT count(*), sum(n * 3 - 1)::BIGINT FROM edge WHERE n * 2 + 1 > 50 AND day >= DATE '2025-04-01'""",
    ],
}


def cell(value):
    return f"{value:.3f}" if isinstance(value, float) else str(value)


found = {}
for name, forms in QUESTIONS.items():
    if only not in name:
        continue
    medians, answer = [], None
    for text in forms:
        samples = []
        while len(samples) < 5 and sum(samples) < 10_000:
            stop = threading.Timer(LONGEST_S, database.interrupt)
            stop.start()
            started = time.perf_counter()
            try:
                rows = [[cell(value) for value in row] for row in database.execute(text).fetchall()]
                answer = answer or rows
                samples.append((time.perf_counter() - started) * 1e3)
            except duckdb.InterruptException:
                samples = [LONGEST_S * 1e3]
                break
            finally:
                stop.cancel()
        medians.append(statistics.median(samples))
        print(f"{medians[-1]:.1f} ms: {' '.join(text.split())}", file=sys.stderr)
    found[name] = {"ms": min(medians)} | ({"answer": answer} if answer else {})
print(json.dumps(found))
