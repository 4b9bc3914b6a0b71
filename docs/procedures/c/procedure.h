/* The world graphodrome:procedure/procedure@0.1.0 for C without a library: what a module calls and exports. */

#pragma once

typedef __UINT8_TYPE__ u8;
typedef __UINT32_TYPE__ u32;
typedef __INT64_TYPE__ i64;
typedef __SIZE_TYPE__ size;

enum direction { ALONG, AGAINST, BOTH };
enum element { NODE, EDGE };

struct words { u32 *at; size len; };
struct floats { double *at; size len; };
struct text { const char *at; size len; };
struct maybe_number { u32 there; double value; };
struct outcome { u32 failed; struct text why; };

#define FROM(module, name) __attribute__((import_module("graphodrome:procedure/" module "@0.1.0"), import_name(name)))
#define EXPORT(name) __attribute__((export_name(name)))
#define TEXT(words) words, sizeof words - 1

FROM("part", "node-count") u32 node_count(void);
FROM("part", "edge-count") u32 edge_count(void);
FROM("part", "starts") void starts(enum direction, struct words *);
FROM("part", "neighbours") void neighbours(enum direction, struct words *);
FROM("part", "edges") void edges(enum direction, struct words *);
FROM("part", "weights") void weights(struct floats *);
FROM("part", "numbers") void property_numbers(enum element, const char *, size, struct floats *);
FROM("arguments", "number") void argument_number(const char *, size, struct maybe_number *);
FROM("arguments", "nodes") void argument_nodes(const char *, size, struct words *);
FROM("results", "nodes") void give_nodes(const char *, size, const u32 *, size);
FROM("results", "numbers") void give_numbers(const char *, size, const double *, size);
FROM("results", "wholes") void give_wholes(const char *, size, const i64 *, size);

extern u8 __heap_base;
static size heap_end;

/* Memory is handed out one piece after the other, and given back when the call ends. */
static void *take(size align, size length) {
    if (heap_end == 0) heap_end = (size)&__heap_base;
    size at = (heap_end + align - 1) / align * align;
    heap_end = at + length;
    size have = __builtin_wasm_memory_size(0) * 65536;
    if (heap_end > have && __builtin_wasm_memory_grow(0, (heap_end - have + 65535) / 65536) == (size)-1)
        __builtin_trap();
    return (void *)at;
}

EXPORT("cabi_realloc") void *cabi_realloc(void *old, size old_length, size align, size length) {
    u8 *fresh = take(align, length);
    for (size i = 0; i < old_length && i < length; i++) fresh[i] = ((u8 *)old)[i];
    return fresh;
}
