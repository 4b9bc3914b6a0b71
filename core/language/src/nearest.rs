//! The known name nearest to a mistyped one.

/// The candidate with the least edit distance to `name`, ignoring case, if it is near enough to be
/// what was meant: at most a third of the length, and at least one edit.
pub fn nearest<'c>(name: &str, candidates: impl IntoIterator<Item = &'c str>) -> Option<&'c str> {
    let wanted = name.to_lowercase();
    let limit = (wanted.chars().count() / 3).max(1);
    candidates
        .into_iter()
        .map(|c| (distance(&wanted, &c.to_lowercase()), c))
        .filter(|(d, _)| *d <= limit)
        .min()
        .map(|(_, c)| c)
}

/// Edit distance where swapping two neighbours counts as one edit (Damerau, optimal string alignment).
fn distance(a: &str, b: &str) -> usize {
    let a: Vec<char> = a.chars().collect();
    let b: Vec<char> = b.chars().collect();
    let mut rows = vec![vec![0; b.len() + 1]; a.len() + 1];
    for (i, row) in rows.iter_mut().enumerate() {
        row[0] = i;
    }
    for (j, cell) in rows[0].iter_mut().enumerate() {
        *cell = j;
    }
    for i in 1..=a.len() {
        for j in 1..=b.len() {
            let change = rows[i - 1][j - 1] + (a[i - 1] != b[j - 1]) as usize;
            let mut best = change.min(rows[i - 1][j] + 1).min(rows[i][j - 1] + 1);
            if i > 1 && j > 1 && a[i - 1] == b[j - 2] && a[i - 2] == b[j - 1] {
                best = best.min(rows[i - 2][j - 2] + 1);
            }
            rows[i][j] = best;
        }
    }
    rows[a.len()][b.len()]
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_nearest_name_is_found_and_a_far_one_is_not() {
        let labels = ["Junction", "Site", "PIPE", "Consumer"];
        assert_eq!(nearest("Juncton", labels), Some("Junction"));
        assert_eq!(nearest("pipe", labels), Some("PIPE"));
        assert_eq!(nearest("Stie", labels), Some("Site"));
        assert_eq!(nearest("Alarm", labels), None);
    }
}
