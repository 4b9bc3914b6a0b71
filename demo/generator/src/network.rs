//! The network: junctions on a jittered grid, mains that branch from a few sites, ring mains, hubs and islands;
//! then all assets attached to it.

use std::io::Write;
use std::path::Path;
use std::sync::Arc;

use arrow_array::{ArrayRef, Date32Array, StringArray};
use chrono::{Days, NaiveDate};
use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;

use crate::names::{CREWS, DISTRICTS, FIRST, MAKERS, MATERIALS, SECOND};
use crate::write::{create, parquet, table};
use crate::{GenerateError, Made};

/// Distance between grid points in metres.
const SPACING_M: f64 = 120.0;

struct Pipe {
    from: String,
    to: String,
    length_m: f64,
    diameter_mm: u32,
    share: f64,
}

fn junction(i: u32) -> String {
    format!("J-{i:05}")
}

fn date(random: &mut ChaCha8Rng, first_year: i32, days: u64) -> String {
    let start = NaiveDate::from_ymd_opt(first_year, 1, 1).unwrap_or_default();
    start.checked_add_days(Days::new(random.random_range(0..days))).unwrap_or(start).to_string()
}

fn pick<'l, T>(random: &mut ChaCha8Rng, list: &'l [T]) -> &'l T {
    &list[random.random_range(0..list.len())]
}

fn place(random: &mut ChaCha8Rng) -> String {
    format!("{} {}", pick(random, &FIRST), pick(random, &SECOND))
}

/// The grid: `columns` wide; districts are four columns by three rows of it.
struct Grid {
    columns: u32,
    rows: u32,
}

impl Grid {
    fn district(&self, i: u32) -> usize {
        let (column, row) = (i % self.columns, i / self.columns);
        let across = (column * 4 / self.columns).min(3);
        let down = (row * 3 / self.rows.max(1)).min(2);
        (down * 4 + across) as usize
    }
}

pub(crate) fn write(junctions: u32, seed: u64, folder: &Path, made: &mut Made) -> Result<(), GenerateError> {
    let random = &mut ChaCha8Rng::seed_from_u64(seed);
    let columns = (junctions as f64).sqrt().ceil() as u32;
    let grid = Grid { columns, rows: junctions.div_ceil(columns) };
    let tables = folder.join("tables");
    let path = |name: &str| tables.join(name);

    let districts = DISTRICTS.iter().map(|(code, name)| {
        vec![code.to_string(), name.to_string(), random.random_range(900..24_000).to_string()]
    });
    table(&path("districts.csv"), &["code", "name", "population"], districts, made)?;
    // Neighbours on the four by three map of districts.
    let mut borders = vec![];
    for i in 0..12usize {
        if i % 4 < 3 {
            borders.push(vec![DISTRICTS[i].0.to_string(), DISTRICTS[i + 1].0.to_string()]);
        }
        if i < 8 {
            borders.push(vec![DISTRICTS[i].0.to_string(), DISTRICTS[i + 4].0.to_string()]);
        }
    }
    table(&path("district_borders.csv"), &["district", "neighbour"], borders.into_iter(), made)?;

    // The last hundredth of the junctions is islands: short chains with no site.
    let islands = (junctions / 100).max(6);
    let connected = junctions - islands;
    let mut elevations = Vec::with_capacity(junctions as usize);
    let mut rows = vec![];
    for i in 0..junctions {
        let (column, row) = (i % columns, i / columns);
        let slope = 160.0 * (1.0 - row as f64 / grid.rows.max(1) as f64);
        let elevation = 20.0 + slope + random.random_range(-6.0..6.0);
        elevations.push(elevation);
        rows.push(vec![
            junction(i),
            format!("{elevation:.1}"),
            format!("{:.1}", column as f64 * SPACING_M + random.random_range(-40.0..40.0)),
            format!("{:.1}", row as f64 * SPACING_M + random.random_range(-40.0..40.0)),
            DISTRICTS[grid.district(i)].0.to_string(),
        ]);
    }
    table(
        &path("junctions.csv"),
        &["code", "elevation_m", "x_m", "y_m", "district"],
        rows.into_iter(),
        made,
    )?;

    let mut pipes: Vec<Pipe> = vec![];
    let site_count = sites(random, &grid, connected, &path("asset_register.csv"), &mut pipes, made)?;
    mains(random, &grid, junctions, connected, &mut pipes);
    write_pipes(random, pipes, &path("pipes.csv"), made)?;
    let valve_count = valves(random, junctions, &path("valves_spreadsheet.csv"), made)?;
    consumers(random, &grid, junctions, &tables, made)?;
    sensors(random, junctions, &tables, made)?;
    work(random, junctions, site_count, valve_count, &tables, made)
}

/// Mains: every connected junction is fed by its left or lower neighbour; some feed back to an ancestor
/// and so close a ring; a few are hubs with many service lines.
fn mains(random: &mut ChaCha8Rng, grid: &Grid, junctions: u32, connected: u32, pipes: &mut Vec<Pipe>) {
    let mut parents: Vec<u32> = vec![0; junctions as usize];
    let mut pipe = |random: &mut ChaCha8Rng, from: u32, to: u32, length_m: f64| {
        let diameter_mm = *pick(random, &[80, 100, 150, 200, 300, 450]);
        pipes.push(Pipe { from: junction(from), to: junction(to), length_m, diameter_mm, share: 0.0 });
    };
    for i in 1..connected {
        let left = (i % grid.columns > 0).then(|| i - 1);
        let below = (i >= grid.columns).then(|| i - grid.columns);
        let parent = match (left, below) {
            (Some(left), Some(below)) => {
                if random.random_bool(0.5) {
                    left
                } else {
                    below
                }
            }
            (Some(one), None) | (None, Some(one)) => one,
            (None, None) => 0,
        };
        parents[i as usize] = parent;
        let length = random.random_range(60.0..220.0);
        pipe(random, parent, i, length);
        // The other neighbour too, now and then: a second way to the same place.
        if let (Some(left), Some(below)) = (left, below)
            && random.random_bool(0.12)
        {
            let other = if parent == left { below } else { left };
            let length = random.random_range(80.0..260.0);
            pipe(random, other, i, length);
        }
        if random.random_bool(0.05) {
            let mut ancestor = i;
            for _ in 0..random.random_range(2..=5) {
                ancestor = parents[ancestor as usize];
            }
            if ancestor != i {
                let length = random.random_range(150.0..600.0);
                pipe(random, i, ancestor, length);
            }
        }
    }
    for hub in 0..(connected / 700).max(2) {
        let at = random.random_range(0..connected / 2) + hub % 2;
        for _ in 0..40 {
            let to = random.random_range(0..connected);
            if to != at {
                let length = random.random_range(300.0..2_000.0);
                pipe(random, at, to, length);
            }
        }
    }
    // Islands of three to five junctions in a row.
    let mut at = connected;
    while at < junctions {
        let end = (at + random.random_range(3..=5)).min(junctions);
        for i in at + 1..end {
            let length = random.random_range(60.0..220.0);
            pipe(random, i - 1, i, length);
        }
        at = end;
    }
}

/// Reservoirs and boreholes feed works, works feed pump stations, those feed the network; tanks stand in
/// it. Returns how many sites there are.
fn sites(
    random: &mut ChaCha8Rng, grid: &Grid, connected: u32, path: &Path, pipes: &mut Vec<Pipe>, made: &mut Made,
) -> Result<u32, GenerateError> {
    let sources = (connected / 400).max(3);
    let mut rows = vec![];
    let mut next = 0u32;
    let mut site = |random: &mut ChaCha8Rng,
                    kind: &str,
                    suffix: &str,
                    capacity: u32,
                    elevation: f64,
                    near: u32|
     -> String {
        next += 1;
        let code = format!("S-{next:03}");
        let maker = if random.random_bool(0.4) { pick(random, &MAKERS).0 } else { "" };
        rows.push(vec![
            code.clone(),
            kind.to_string(),
            format!("{} {suffix}", place(random)),
            format!("{elevation:.1}"),
            capacity.to_string(),
            date(random, 1905, 42_000),
            DISTRICTS[grid.district(near)].0.to_string(),
            maker.to_string(),
        ]);
        code
    };
    let mut link = |random: &mut ChaCha8Rng, from: &str, to: &str| {
        let length_m = random.random_range(400.0..3_500.0);
        pipes.push(Pipe { from: from.into(), to: to.into(), length_m, diameter_mm: 600, share: 0.0 });
    };
    for i in 0..sources {
        let near = (i * grid.columns * 3) % connected.max(1);
        let capacity = random.random_range(20_000..900_000);
        let reservoir = site(random, "Reservoir", "Reservoir", capacity, 210.0 + i as f64 % 40.0, near);
        let capacity = random.random_range(500..9_000);
        let works = site(random, "Works", "Works", capacity, 190.0, near);
        link(random, &reservoir, &works);
        if i % 2 == 0 {
            let capacity = random.random_range(200..2_000);
            let borehole = site(random, "Borehole", "Borehole", capacity, 150.0, near);
            link(random, &borehole, &works);
        }
        let pump = site(random, "PumpStation", "Pumping Station", 0, 180.0, near);
        link(random, &works, &pump);
        link(random, &pump, &junction(near));
        if i > 0 {
            link(random, &pump, &junction((near + grid.columns / 2) % connected));
        }
        let tank_at = (near + grid.columns + 3) % connected;
        let capacity = random.random_range(300..5_000);
        let tank = site(random, "Tank", "Tank", capacity, 140.0, tank_at);
        link(random, &junction(tank_at), &tank);
        link(random, &tank, &junction((tank_at + 1) % connected));
    }
    let header = ["asset_code", "kind", "asset_name", "elevation", "capacity", "opened", "district", "maker"];
    table(path, &header, rows.into_iter(), made)?;
    Ok(next)
}

fn write_pipes(
    random: &mut ChaCha8Rng, mut pipes: Vec<Pipe>, path: &Path, made: &mut Made,
) -> Result<(), GenerateError> {
    // Shares of what flows out of a place add up to 1.
    let mut totals: std::collections::HashMap<String, f64> = std::collections::HashMap::new();
    for pipe in &mut pipes {
        pipe.share = random.random_range(0.2..1.0);
        *totals.entry(pipe.from.clone()).or_default() += pipe.share;
    }
    let rows = pipes.into_iter().enumerate().map(|(i, pipe)| {
        let total = totals.get(&pipe.from).copied().unwrap_or(1.0);
        let status = if random.random_bool(0.03) { "out of use" } else { "in use" };
        vec![
            format!("P-{:06}", i + 1),
            pipe.from,
            pipe.to,
            format!("{:.1}", pipe.length_m),
            pipe.diameter_mm.to_string(),
            pick(random, &MATERIALS).to_string(),
            random.random_range(1898..2026).to_string(),
            status.to_string(),
            format!("{:.4}", pipe.share / total),
        ]
    });
    let header =
        ["code", "from_code", "to_code", "length_m", "diameter_mm", "material", "laid", "status", "share"];
    table(path, &header, rows, made)
}

fn valves(
    random: &mut ChaCha8Rng, junctions: u32, path: &Path, made: &mut Made,
) -> Result<u32, GenerateError> {
    let count = junctions / 4;
    let mut rows = vec![];
    for i in 1..=count {
        let (maker, country) = *pick(random, &MAKERS);
        let valve = vec![
            format!("V-{i:04}"),
            pick(random, &["gate", "butterfly", "check", "pressure reducing"]).to_string(),
            if random.random_bool(0.9) { "open" } else { "closed" }.to_string(),
            date(random, 1960, 24_000),
        ];
        let at = random.random_range(0..junctions);
        let batch = format!("B{:03}", random.random_range(1..400));
        // Some valves isolate two junctions and so stand in two rows.
        let mut at_junction = |at: u32, side: &str| {
            let mut row = valve.clone();
            row.extend([
                junction(at),
                side.to_string(),
                maker.to_string(),
                country.to_string(),
                batch.clone(),
            ]);
            rows.push(row);
        };
        at_junction(at, "upstream");
        if i % 5 == 0 && at + 1 < junctions {
            at_junction(at + 1, "downstream");
        }
    }
    let header =
        ["valve", "kind", "normally", "installed", "junction", "side", "maker", "maker_country", "batch"];
    table(path, &header, rows.into_iter(), made)?;
    Ok(count)
}

fn consumers(
    random: &mut ChaCha8Rng, grid: &Grid, junctions: u32, tables: &Path, made: &mut Made,
) -> Result<(), GenerateError> {
    // What the meters' own system exports: which meter is at which consumer, fed from which junction.
    let (mut meters, mut codes, mut feeds, mut fitted) = (vec![], vec![], vec![], vec![]);
    let rows = (1..=junctions / 2).map(|i| {
        let (kind, suffix, demand, priority) = match i % 50 {
            1 => ("Hospital", "Hospital", 90.0..400.0, 1),
            2 | 3 => ("School", "School", 8.0..40.0, 2),
            4..=6 => ("Bakery", "Bakery", 2.0..12.0, 3),
            7..=11 => ("Farm", "Farm", 5.0..60.0, 3),
            _ => ("Housing", "Houses", 1.0..30.0, 4),
        };
        let at = random.random_range(0..junctions);
        codes.push(format!("C-{i:05}"));
        let row = vec![
            format!("C-{i:05}"),
            kind.to_string(),
            format!("{} {suffix}", place(random)),
            format!("{:.1}", random.random_range(demand)),
            priority.to_string(),
            DISTRICTS[grid.district(at)].0.to_string(),
            junction(at),
        ];
        let meter: u32 = random.random_range(0..9_999_999);
        meters.push(format!("M{meter:07}"));
        feeds.push(junction(at));
        // Days since 1970: some day of the last twenty years.
        fitted.push(13_000 + (meter % 7_300) as i32);
        row
    });
    let header = ["code", "kind", "name", "demand_m3_day", "priority", "district", "junction"];
    table(&tables.join("consumers.csv"), &header, rows, made)?;
    let columns: Vec<(&str, ArrayRef)> = vec![
        ("meter", Arc::new(StringArray::from(meters))),
        ("consumer", Arc::new(StringArray::from(codes))),
        ("junction", Arc::new(StringArray::from(feeds))),
        ("fitted", Arc::new(Date32Array::from(fitted))),
    ];
    parquet(&tables.join("meters.parquet"), columns, made)
}

fn sensors(
    random: &mut ChaCha8Rng, junctions: u32, tables: &Path, made: &mut Made,
) -> Result<(), GenerateError> {
    let count = (junctions / 25).max(8);
    let rows: Vec<Vec<String>> = (1..=count)
        .map(|i| {
            let installed = date(random, 2005, 7_000);
            vec![
                format!("X-{i:04}"),
                pick(random, &["pressure", "flow", "turbidity", "chlorine"]).to_string(),
                installed.clone(),
                junction(random.random_range(0..junctions)),
                installed,
            ]
        })
        .collect();
    table(
        &tables.join("sensors.csv"),
        &["code", "measures", "installed", "junction", "since"],
        rows.into_iter(),
        made,
    )?;
    let path = tables.join("alarms.jsonl");
    let failed =
        |e: std::io::Error| GenerateError::Write { path: path.display().to_string(), reason: e.to_string() };
    let mut out = create(&path)?;
    for i in 1..=count * 2 {
        let day = date(random, 2024, 700);
        let alarm = serde_json::json!({
            "id": 4000 + i,
            "raised": format!("{day}T{:02}:{:02}:00+00:00", random.random_range(0..24), random.random_range(0..60)),
            "level": pick(random, &["notice", "warning", "urgent"]),
            "sensor": format!("X-{:04}", random.random_range(1..=count)),
        });
        writeln!(out, "{alarm}").map_err(failed)?;
        made.rows += 1;
    }
    out.flush().map_err(failed)?;
    made.files += 1;
    Ok(())
}

fn work(
    random: &mut ChaCha8Rng, junctions: u32, sites: u32, valves: u32, tables: &Path, made: &mut Made,
) -> Result<(), GenerateError> {
    let crews = CREWS.iter().map(|(name, base)| vec![name.to_string(), base.to_string()]);
    table(&tables.join("crews.csv"), &["name", "base"], crews, made)?;
    let count = (junctions / 7).max(40);
    let mut orders: Vec<Vec<String>> = vec![];
    let mut hours = vec![];
    for i in 1..=count {
        let number = format!("W-{i:05}");
        // A third continue an earlier order on the same asset.
        let earlier = (i > 5 && random.random_bool(0.33)).then(|| random.random_range(0..orders.len()));
        let asset = match earlier {
            Some(e) => orders[e][5].clone(),
            None => match random.random_range(0..10) {
                0 => format!("S-{:03}", random.random_range(1..=sites)),
                1..=6 => format!("V-{:04}", random.random_range(1..=valves)),
                _ => junction(random.random_range(0..junctions)),
            },
        };
        let opened = NaiveDate::from_ymd_opt(2019, 1, 1).unwrap_or_default()
            + Days::new(i as u64 * 2_400 / count as u64);
        let closed = if random.random_bool(0.85) {
            (opened + Days::new(random.random_range(0..60))).to_string()
        } else {
            String::new()
        };
        let kind = pick(random, &["inspection", "repair", "failure", "replacement", "flushing"]).to_string();
        let reason = if earlier.is_some() {
            pick(random, &["not fixed", "next step", "came back"]).to_string()
        } else {
            String::new()
        };
        orders.push(vec![
            number.clone(),
            kind,
            opened.to_string(),
            closed,
            format!("{}.{:02}", random.random_range(80..9_000), random.random_range(0..100)),
            asset,
            earlier.map(|e| orders[e][0].clone()).unwrap_or_default(),
            reason,
        ]);
        let first = random.random_range(0..CREWS.len());
        for crew in 0..random.random_range(1..=2usize) {
            let name = CREWS[(first + crew * 3) % CREWS.len()].0;
            hours.push(vec![
                number.clone(),
                name.to_string(),
                format!("{:.1}", random.random_range(0.5..16.0)),
            ]);
        }
    }
    let header = ["number", "kind", "opened", "closed", "cost", "asset", "follows", "reason"];
    table(&tables.join("work_orders.csv"), &header, orders.into_iter(), made)?;
    table(&tables.join("orders_crews.csv"), &["order_number", "crew", "hours"], hours.into_iter(), made)
}
