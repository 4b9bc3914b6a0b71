"""The measures of benches/measures.rs with scipy and igraph, where they are there: milliseconds and answers as JSON."""

import json
import sys
import time

import numpy

folder, only = sys.argv[1], sys.argv[2] if len(sys.argv) > 2 else ""
nodes, small_nodes, grid_nodes = map(int, open(f"{folder}/sizes").read().split())
found = {}


def ends(name):
    return numpy.fromfile(f"{folder}/{name}", dtype=numpy.uint32).reshape(-1, 2)


def timed(what, peer, work):
    if only not in what:
        return
    started = time.perf_counter()
    answer = work()
    found.setdefault(what, {})[peer] = {"ms": (time.perf_counter() - started) * 1e3, "answer": answer}


whole = ends("whole.bin")

try:
    import scipy.sparse as sparse
    from scipy.sparse.csgraph import connected_components

    ones = numpy.ones(len(whole))
    rows = sparse.csr_matrix((ones, (whole[:, 0], whole[:, 1])), shape=(nodes, nodes))
    into = rows.T.tocsr()
    degree = numpy.bincount(whole[:, 0], minlength=nodes)

    def page_rank():
        scores = numpy.full(nodes, 1 / nodes)
        for _ in range(20):
            share = scores / numpy.maximum(degree, 1)
            scores = (0.15 + 0.85 * scores[degree == 0].sum()) / nodes + 0.85 * (into @ share)
        return float(scores.max())

    timed("PageRank, 20 iterations", "scipy", page_rank)
    timed("weak components", "scipy", lambda: int(connected_components(rows, connection="weak")[0]))
    timed("strong components", "scipy", lambda: int(connected_components(rows, connection="strong")[0]))
except ImportError as missing:
    print(missing, file=sys.stderr)

try:
    import igraph

    directed = igraph.Graph(n=nodes, edges=whole, directed=True)
    timed("weak components", "igraph", lambda: len(directed.connected_components(mode="weak")))
    timed("strong components", "igraph", lambda: len(directed.connected_components(mode="strong")))
    simple = igraph.Graph(n=nodes, edges=whole, directed=False).simplify()
    timed("k-cores", "igraph", lambda: max(simple.coreness()))
    timed("triangles", "igraph", lambda: len(simple.list_triangles()))
    multi = igraph.Graph(n=nodes, edges=whole, directed=False)

    def louvain():
        return float(multi.community_multilevel().modularity)

    timed("Louvain", "igraph", louvain)
    between = igraph.Graph(n=small_nodes, edges=ends("small.bin"), directed=True)
    timed("betweenness, exact", "igraph", lambda: float(max(between.betweenness())))
    capacities = numpy.fromfile(f"{folder}/capacities.bin", dtype=numpy.float64)
    grid = igraph.Graph(n=grid_nodes, edges=ends("grid.bin"), directed=True)
    timed("maximum flow", "igraph", lambda: float(grid.maxflow_value(0, grid_nodes - 1, capacity=capacities.tolist())))
except ImportError as missing:
    print(missing, file=sys.stderr)

print(json.dumps(found))
