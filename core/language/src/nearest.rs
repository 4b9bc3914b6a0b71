//! The known name nearest to a mistyped one.

use strsim::osa_distance;

/// The candidate with the least edit distance to `name`, ignoring case, if it is near enough to be what was meant: at
/// most a third of the length, and at least one edit. Two neighbours that are swapped count as one.
pub fn nearest<'c>(name: &str, candidates: impl IntoIterator<Item = &'c str>) -> Option<&'c str> {
    let wanted = name.to_lowercase();
    let limit = (wanted.chars().count() / 3).max(1);
    candidates
        .into_iter()
        .map(|c| (osa_distance(&wanted, &c.to_lowercase()), c))
        .filter(|(d, _)| *d <= limit)
        .min()
        .map(|(_, c)| c)
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
