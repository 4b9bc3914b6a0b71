//! Numbers of things in messages.

/// `1 node`, `2 nodes`.
pub fn counted(number: u64, noun: &str) -> String {
    let plural = if number == 1 { "" } else { "s" };
    format!("{number} {noun}{plural}")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn one_is_singular() {
        let said: Vec<String> = [0, 1, 2].into_iter().map(|number| counted(number, "edge")).collect();
        assert_eq!(said, ["0 edges", "1 edge", "2 edges"]);
    }
}
