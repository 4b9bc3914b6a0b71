//! Sums, counts and extremes of groups in arrays, one place a group: what most aggregates over columns of one type are.
//! At the end they are put into the groups' accumulators, beside what went there row by row.

use graphodrome_graph::{Column, GraphError, Unit, Value};
use graphodrome_language::ast::Aggregate;

use crate::numbers::{Cells, Numbers};
use crate::operators::Accumulator;
use crate::operators::exact_sum::FloatSum;
use crate::operators::percentiles::{Items, float_order};

/// Of one aggregate: a function is either a sum, a count or an extreme.
#[derive(Default)]
pub(crate) struct Totals {
    counts: Vec<u64>,
    /// Each with how many there were.
    whole: Vec<(i128, u64)>,
    floats: Vec<(FloatSum, u64)>,
    /// The scale of decimals, whose sums are among the whole ones.
    scale: Option<u8>,
    extremes: Option<Extremes>,
    /// Of a percentile every value, with its group until they are put in order.
    items: Option<Items>,
    owners: Vec<u32>,
    /// Where the values of each group begin, once they are in the order of the groups.
    starts: Vec<usize>,
}

enum Extremes {
    Ints(Vec<i64>),
    Floats(Vec<f64>),
    Days(Vec<i32>),
    Units(Vec<i64>, Unit),
}

/// Rows with their groups, and how many rows each stands for where that is not one.
#[derive(Clone, Copy)]
pub(crate) struct GroupPlaces<'p> {
    pub rows: &'p [u32],
    pub groups: &'p [u32],
    pub times: Option<&'p [usize]>,
}

impl GroupPlaces<'_> {
    #[inline]
    fn each(self, column: &Numbers, mut visit: impl FnMut(usize, usize, u64)) {
        for (i, (row, group)) in self.rows.iter().zip(self.groups).enumerate() {
            let row = *row as usize;
            if !column.is_null(row) {
                visit(row, *group as usize, self.times.map_or(1, |times| times[i] as u64));
            }
        }
    }

    /// Whether a row stands for more rows than can be counted.
    fn saturated(self) -> bool {
        self.times.is_some_and(|times| times.contains(&usize::MAX))
    }
}

fn is_below(a: f64, b: f64) -> bool {
    float_order(a, b).is_lt()
}

fn grow<T: Clone + Default>(list: &mut Vec<T>, len: usize) {
    if list.len() < len {
        list.resize(len, T::default());
    }
}

impl Totals {
    /// Counts rows, of any type.
    pub fn count(&mut self, places: GroupPlaces<'_>, groups: usize) {
        grow(&mut self.counts, groups);
        match places.times {
            None => places.groups.iter().for_each(|group| self.counts[*group as usize] += 1),
            Some(times) => {
                for (group, times) in places.groups.iter().zip(times) {
                    let count = &mut self.counts[*group as usize];
                    *count = count.saturating_add(*times as u64);
                }
            }
        }
    }

    /// Adds a column; `false`, and nothing of it added, where it must be done row by row.
    pub fn add(
        &mut self, function: Aggregate, column: &Numbers, places: GroupPlaces<'_>, groups: usize,
    ) -> bool {
        if places.saturated() {
            return false;
        }
        match function {
            Aggregate::Count => {
                grow(&mut self.counts, groups);
                let counts = &mut self.counts;
                places.each(column, |_, group, times| counts[group] = counts[group].saturating_add(times));
            }
            Aggregate::Sum | Aggregate::Avg => return self.add_up(column, places, groups),
            Aggregate::Min => return self.keep(true, column, places, groups),
            Aggregate::Max => return self.keep(false, column, places, groups),
            Aggregate::PercentileCont | Aggregate::PercentileDisc => return self.collect(column, places),
            _ => return false,
        }
        true
    }

    fn add_up(&mut self, column: &Numbers, places: GroupPlaces<'_>, groups: usize) -> bool {
        // Beyond it the sums could overflow.
        const MOST: u64 = 1 << 40;
        let scale = match &column.cells {
            Cells::Units(_, Unit::Decimal { scale }) => Some(*scale),
            _ => None,
        };
        match &column.cells {
            Cells::Ints(ints) | Cells::Units(ints, Unit::Decimal { .. }) => {
                // Sums of one unit only.
                if !self.whole.is_empty() && self.scale != scale {
                    return false;
                }
                if places.times.is_some_and(|times| times.iter().any(|t| *t as u64 > MOST)) {
                    return false;
                }
                self.scale = scale;
                grow(&mut self.whole, groups);
                let sums = &mut self.whole;
                places.each(column, |row, group, times| {
                    let (sum, count) = &mut sums[group];
                    *sum += i128::from(ints[row]) * i128::from(times);
                    *count += times;
                });
            }
            Cells::Floats(floats) => {
                grow(&mut self.floats, groups);
                let sums = &mut self.floats;
                places.each(column, |row, group, times| {
                    let (sum, count) = &mut sums[group];
                    match times {
                        0 => {}
                        1 => sum.add(floats[row]),
                        _ => sum.add_times(floats[row], times),
                    }
                    *count += times;
                });
            }
            Cells::Days(_) | Cells::Units(..) => return false,
        }
        true
    }

    fn keep(&mut self, least: bool, column: &Numbers, places: GroupPlaces<'_>, groups: usize) -> bool {
        let extremes = self.extremes.get_or_insert_with(|| match &column.cells {
            Cells::Ints(_) => Extremes::Ints(vec![]),
            Cells::Floats(_) => Extremes::Floats(vec![]),
            Cells::Days(_) => Extremes::Days(vec![]),
            Cells::Units(_, unit) => Extremes::Units(vec![], *unit),
        });
        grow(&mut self.counts, groups);
        let counts = &mut self.counts;
        match (extremes, &column.cells) {
            (Extremes::Ints(best), Cells::Ints(ints)) => {
                grow(best, groups);
                places.each(column, |row, group, _| {
                    let better = if least { ints[row] < best[group] } else { ints[row] > best[group] };
                    if counts[group] == 0 || better {
                        best[group] = ints[row];
                    }
                    counts[group] += 1;
                });
            }
            (Extremes::Floats(best), Cells::Floats(floats)) => {
                grow(best, groups);
                places.each(column, |row, group, _| {
                    let (new, old) = (floats[row], best[group]);
                    let better = if least { is_below(new, old) } else { is_below(old, new) };
                    if counts[group] == 0 || better {
                        best[group] = new;
                    }
                    counts[group] += 1;
                });
            }
            (Extremes::Days(best), Cells::Days(days)) => {
                grow(best, groups);
                places.each(column, |row, group, _| {
                    let better = if least { days[row] < best[group] } else { days[row] > best[group] };
                    if counts[group] == 0 || better {
                        best[group] = days[row];
                    }
                    counts[group] += 1;
                });
            }
            (Extremes::Units(best, unit), Cells::Units(numbers, own)) if unit == own => {
                grow(best, groups);
                places.each(column, |row, group, _| {
                    let (new, old) = (numbers[row], best[group]);
                    if counts[group] == 0 || (if least { new < old } else { new > old }) {
                        best[group] = new;
                    }
                    counts[group] += 1;
                });
            }
            _ => return false,
        }
        true
    }

    fn collect(&mut self, column: &Numbers, places: GroupPlaces<'_>) -> bool {
        let alike = matches!(
            (&self.items, &column.cells),
            (None | Some(Items::Ints(_)), Cells::Ints(_)) | (None | Some(Items::Floats(_)), Cells::Floats(_))
        );
        if !alike || places.times.is_some() {
            return false;
        }
        let empty = || match &column.cells {
            Cells::Floats(_) => Items::Floats(vec![]),
            _ => Items::Ints(vec![]),
        };
        let owners = &mut self.owners;
        match (self.items.get_or_insert_with(empty), &column.cells) {
            (Items::Ints(all), Cells::Ints(ints)) => places.each(column, |row, group, _| {
                all.push(ints[row]);
                owners.push(group as u32);
            }),
            (Items::Floats(all), Cells::Floats(floats)) => places.each(column, |row, group, _| {
                all.push(floats[row]);
                owners.push(group as u32);
            }),
            _ => return false,
        }
        true
    }

    /// Puts the values of percentiles in the order of their groups, each group's in the order in which they came.
    pub fn arrange(&mut self, groups: usize) {
        fn in_order<T: Copy + Default>(all: &[T], owners: &[u32], mut next: Vec<usize>) -> Vec<T> {
            let mut found = vec![T::default(); all.len()];
            for (value, owner) in all.iter().zip(owners) {
                let at = &mut next[*owner as usize];
                found[*at] = *value;
                *at += 1;
            }
            found
        }
        let Some(items) = &mut self.items else { return };
        let mut starts = vec![0usize; groups + 1];
        self.owners.iter().for_each(|owner| starts[*owner as usize + 1] += 1);
        (0..groups).for_each(|group| starts[group + 1] += starts[group]);
        match items {
            Items::Ints(all) => *all = in_order(all, &self.owners, starts.clone()),
            Items::Floats(all) => *all = in_order(all, &self.owners, starts.clone()),
            Items::Values(_) => {}
        }
        self.owners = vec![];
        self.starts = starts;
    }

    pub fn is_empty(&self) -> bool {
        self.counts.is_empty()
            && self.whole.is_empty()
            && self.floats.is_empty()
            && self.extremes.is_none()
            && self.items.is_none()
    }

    /// Adds counts, sums of whole numbers and the values of percentiles of other groups, whose places here are given; `false`, and nothing added, where there
    /// is anything else.
    pub fn absorb(&mut self, other: &mut Totals, places: &[u32], groups: usize) -> bool {
        if other.extremes.is_some() || self.extremes.is_some() || !other.floats.is_empty() {
            return false;
        }
        if !self.whole.is_empty() && !other.whole.is_empty() && self.scale != other.scale {
            return false;
        }
        if let Some(items) = &other.items {
            match (self.items.as_mut(), items) {
                (None, _) => {}
                (Some(Items::Ints(all)), Items::Ints(more)) => all.extend_from_slice(more),
                (Some(Items::Floats(all)), Items::Floats(more)) => all.extend_from_slice(more),
                _ => return false,
            }
            self.owners.extend(other.owners.iter().map(|owner| places[*owner as usize]));
            self.items = self.items.take().or_else(|| other.items.take());
        }
        if !other.counts.is_empty() {
            grow(&mut self.counts, groups);
        }
        for (count, place) in other.counts.iter().zip(places) {
            let own = &mut self.counts[*place as usize];
            *own = own.saturating_add(*count);
        }
        if !other.whole.is_empty() {
            self.scale = other.scale;
            grow(&mut self.whole, groups);
        }
        for ((sum, count), place) in other.whole.iter().zip(places) {
            let own = &mut self.whole[*place as usize];
            own.0 += sum;
            own.1 += count;
        }
        true
    }

    /// Bytes held.
    pub fn bytes(&self) -> usize {
        let extremes = match &self.extremes {
            Some(Extremes::Ints(all)) => 8 * all.capacity(),
            Some(Extremes::Floats(all)) => 8 * all.capacity(),
            Some(Extremes::Days(all)) => 4 * all.capacity(),
            Some(Extremes::Units(all, _)) => 8 * all.capacity(),
            None => 0,
        };
        8 * self.counts.capacity()
            + 32 * self.whole.capacity()
            + size_of::<(FloatSum, u64)>() * self.floats.capacity()
            + self.floats.iter().map(|(sum, _)| sum.bytes()).sum::<usize>()
            + extremes
            // Twice: they are put in order beside themselves.
            + 2 * self.items.as_ref().map_or(0, Items::bytes)
            + 4 * self.owners.capacity()
    }

    /// Puts what a group has into its accumulator.
    pub fn put(&self, group: usize, accumulator: &mut Accumulator) -> Result<(), GraphError> {
        if let (Some(items), [from, to]) =
            (&self.items, self.starts.get(group..group + 2).unwrap_or_default())
        {
            accumulator.merge_items(items.part(*from..*to));
        }
        if let Some((sum, count)) = self.whole.get(group) {
            match self.scale {
                None => accumulator.merge_whole(*sum, *count)?,
                Some(scale) => accumulator.merge_decimals(*sum, scale, *count)?,
            }
        }
        if let Some((sum, count)) = self.floats.get(group) {
            accumulator.merge_floats(sum, *count)?;
        }
        let Some(&count) = self.counts.get(group) else { return Ok(()) };
        let value = match &self.extremes {
            None => {
                accumulator.add_rows(count as usize);
                return Ok(());
            }
            Some(Extremes::Ints(all)) => all.get(group).map(|int| Value::Int(*int)),
            Some(Extremes::Floats(all)) => all.get(group).map(|float| Value::Float(*float)),
            Some(Extremes::Days(all)) => all.get(group).map(|days| Column::date(*days)),
            Some(Extremes::Units(all, unit)) => all.get(group).map(|number| unit.value(*number)),
        };
        value.map_or(Ok(()), |value| accumulator.merge_extreme(value, count))
    }
}
