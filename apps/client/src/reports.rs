//! Results of `check` as JUnit XML and Markdown.

use std::fmt::Write;

use quick_xml::events::{BytesDecl, BytesEnd, BytesStart, BytesText, Event};
use serde::Serialize;
use serde_json::Value;

/// Microseconds for people.
pub fn time(us: f64) -> String {
    match us {
        us if us < 1_000.0 => format!("{us:.0} us"),
        us if us < 1e6 => format!("{:.2} ms", us / 1e3),
        us => format!("{:.2} s", us / 1e6),
    }
}

/// A saved query against its accepted run.
#[derive(Clone, Debug, Default, Serialize)]
pub struct Checked {
    pub saved_query: String,
    pub graph: String,
    pub run: Option<i64>,
    /// same, changed, better, worse or failed.
    pub verdict: String,
    pub reasons: Vec<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub execute_us: Option<f64>,
    #[serde(skip_serializing_if = "Value::is_null")]
    pub comparison: Value,
}

impl Checked {
    pub fn named(saved_query: &str, graph: &str) -> Checked {
        Checked { saved_query: saved_query.into(), graph: graph.into(), ..Checked::default() }
    }

    pub fn of(answer: &Value) -> Checked {
        let text = |field: &str| answer[field].as_str().unwrap_or_default().to_string();
        let reasons = answer["reasons"].as_array().into_iter().flatten();
        Checked {
            run: answer["run"].as_i64(),
            verdict: text("verdict"),
            reasons: reasons.filter_map(|r| r.as_str().map(str::to_string)).collect(),
            execute_us: answer["execute_us"].as_f64(),
            comparison: answer["comparison"].clone(),
            ..Checked::named(&text("saved_query"), &text("graph"))
        }
    }

    /// What makes a check fail.
    pub fn is_bad(&self) -> bool {
        matches!(self.verdict.as_str(), "worse" | "failed")
    }

    pub fn line(&self) -> String {
        let reasons =
            if self.reasons.is_empty() { String::new() } else { format!(": {}", self.reasons.join("; ")) };
        format!("{:<8} {} on {}{reasons}", self.verdict, self.saved_query, self.graph)
    }
}

/// A test case for each query, of the suite of its graph.
pub fn junit(results: &[&Checked]) -> std::io::Result<String> {
    let mut writer = quick_xml::Writer::new_with_indent(vec![], b' ', 2);
    writer.write_event(Event::Decl(BytesDecl::new("1.0", Some("UTF-8"), None)))?;
    let mut graphs: Vec<&str> = results.iter().map(|one| one.graph.as_str()).collect();
    graphs.sort_unstable();
    graphs.dedup();
    writer.write_event(Event::Start(BytesStart::new("testsuites")))?;
    for graph in graphs {
        let of_graph: Vec<&&Checked> = results.iter().filter(|one| one.graph == graph).collect();
        let count = |verdict: &str| of_graph.iter().filter(|one| one.verdict == verdict).count().to_string();
        let mut suite = BytesStart::new("testsuite");
        suite.push_attribute(("name", graph));
        suite.push_attribute(("tests", of_graph.len().to_string().as_str()));
        suite.push_attribute(("failures", count("worse").as_str()));
        suite.push_attribute(("errors", count("failed").as_str()));
        writer.write_event(Event::Start(suite))?;
        for one in of_graph {
            let mut case = BytesStart::new("testcase");
            case.push_attribute(("classname", graph));
            case.push_attribute(("name", one.saved_query.as_str()));
            case.push_attribute(("time", format!("{:.6}", one.execute_us.unwrap_or(0.0) / 1e6).as_str()));
            let element = match one.verdict.as_str() {
                "worse" => Some("failure"),
                "failed" => Some("error"),
                _ if one.reasons.is_empty() => None,
                _ => Some("system-out"),
            };
            let Some(element) = element else {
                writer.write_event(Event::Empty(case))?;
                continue;
            };
            let reasons = one.reasons.join("\n");
            writer.write_event(Event::Start(case))?;
            let mut start = BytesStart::new(element);
            if element != "system-out" {
                start.push_attribute(("message", reasons.as_str()));
            }
            writer.write_event(Event::Start(start))?;
            writer.write_event(Event::Text(BytesText::new(&reasons)))?;
            writer.write_event(Event::End(BytesEnd::new(element)))?;
            writer.write_event(Event::End(BytesEnd::new("testcase")))?;
        }
        writer.write_event(Event::End(BytesEnd::new("testsuite")))?;
    }
    writer.write_event(Event::End(BytesEnd::new("testsuites")))?;
    Ok(String::from_utf8(writer.into_inner()).map_err(std::io::Error::other)? + "\n")
}

/// A cell of a Markdown table.
fn cell(text: &str) -> String {
    text.replace('|', "\\|").replace('\n', " ")
}

/// A table for people, what is bad first.
pub fn markdown(results: &[&Checked], run: bool) -> String {
    let bad = results.iter().filter(|one| one.is_bad()).count();
    let mut out = format!(
        "# Saved queries against their accepted runs\n\n{} checked, {bad} worse or failed.\n\n",
        results.len()
    );
    out.push_str(if run {
        "| | query | graph | time | |\n|---|---|---|---:|---|\n"
    } else {
        "| | query | graph | |\n|---|---|---|---|\n"
    });
    let mut sorted = results.to_vec();
    sorted.sort_by_key(|one| !one.is_bad());
    for one in sorted {
        let verdict = if one.is_bad() { format!("**{}**", one.verdict) } else { one.verdict.clone() };
        let _ = write!(out, "| {verdict} | {} | {} |", cell(&one.saved_query), cell(&one.graph));
        if run {
            let _ = write!(out, " {} |", one.execute_us.map_or(String::new(), time));
        }
        let _ = writeln!(out, " {} |", cell(&one.reasons.join("; ")));
    }
    out
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used)]

    use super::*;

    #[test]
    fn reports_say_what_is_worse_whatever_characters_it_has() {
        let one = Checked { verdict: "same".into(), execute_us: Some(1500.0), ..Checked::named("a", "g") };
        let reasons = vec!["12 <edges> & \"more\" | than".into()];
        let other = Checked { verdict: "worse".into(), reasons, ..Checked::named("b", "g") };
        let gone =
            Checked { verdict: "failed".into(), reasons: vec!["no".into()], ..Checked::named("c", "h") };
        let all = [&one, &other, &gone];
        let xml = junit(&all).unwrap();
        let mut reader = quick_xml::Reader::from_str(&xml);
        let (mut cases, mut failures, mut errors) = (0, vec![], 0);
        loop {
            match reader.read_event().unwrap() {
                Event::Eof => break,
                Event::Start(e) | Event::Empty(e) => match e.name().as_ref() {
                    "testcase" => cases += 1,
                    "failure" => {
                        let message = e.try_get_attribute("message").unwrap().unwrap();
                        failures.push(quick_xml::escape::unescape(&message.value).unwrap().into_owned());
                    }
                    "error" => errors += 1,
                    _ => {}
                },
                _ => {}
            }
        }
        assert_eq!((cases, errors), (3, 1));
        assert_eq!(failures, ["12 <edges> & \"more\" | than"]);
        assert!(xml.contains("<testsuite name=\"g\" tests=\"2\" failures=\"1\" errors=\"0\">"), "{xml}");
        let table = markdown(&all, true);
        let rows: Vec<&str> = table.lines().filter(|line| line.starts_with("| ")).skip(1).collect();
        assert_eq!(rows[0], "| **worse** | b | g |  | 12 <edges> & \"more\" \\| than |");
        assert_eq!(rows[2], "| same | a | g | 1.50 ms |  |");
    }
}
