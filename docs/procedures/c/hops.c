/* How many hops each node is away from the nearest of some: a breadth-first search.
 *
 *     clang --target=wasm32 -O2 -mbulk-memory -nostdlib -Wl,--no-entry -o hops.wasm hops.c
 */

#include "procedure.h"

static const char SIGNATURE[] = "hops(from LIST<NODE>, most INT64 = 1000000) YIELD node NODE, hops INT64\n"
                                "How many hops each node is away from the nearest of some, at most so many.";

EXPORT("signature") struct text *signature(void) {
    struct text *said = take(4, sizeof *said);
    *said = (struct text){ TEXT(SIGNATURE) };
    return said;
}

EXPORT("run") struct outcome *run(void) {
    u32 count = node_count();
    struct words first, start, next;
    struct maybe_number most;
    argument_nodes(TEXT("from"), &first);
    argument_number(TEXT("most"), &most);
    starts(ALONG, &start);
    neighbours(ALONG, &next);

    u32 *order = take(4, 4 * (size)count), reached = 0;
    i64 *hops = take(8, 8 * (size)count);
    for (u32 node = 0; node < count; node++) hops[node] = -1;
    for (size i = 0; i < first.len; i++)
        if (hops[first.at[i]] < 0) {
            hops[first.at[i]] = 0;
            order[reached++] = first.at[i];
        }
    for (u32 done = 0; done < reached; done++) {
        u32 node = order[done];
        if (hops[node] >= (i64)most.value) break;
        for (u32 at = start.at[node]; at < start.at[node + 1]; at++)
            if (hops[next.at[at]] < 0) {
                hops[next.at[at]] = hops[node] + 1;
                order[reached++] = next.at[at];
            }
    }
    i64 *found = take(8, 8 * (size)reached);
    for (u32 i = 0; i < reached; i++) found[i] = hops[order[i]];
    give_nodes(TEXT("node"), order, reached);
    give_wholes(TEXT("hops"), found, reached);

    struct outcome *done = take(4, sizeof *done);
    *done = (struct outcome){ 0 };
    return done;
}
