//! `fmt`: query files in one layout.

use std::io::Read;
use std::path::Path;

use anyhow::Context;
use graphodrome_language::{format, parse};

use crate::arguments::FmtOptions;

/// The text in its layout; an error where it cannot be read as queries.
fn laid_out(text: &str, what: &str) -> anyhow::Result<String> {
    if let Err(errors) = parse(text) {
        let shown: Vec<String> = errors.0.iter().map(|e| e.render(text)).collect();
        anyhow::bail!("{}\n{what} was left as it is", shown.join("\n\n"));
    }
    Ok(format(text))
}

pub fn fmt(options: FmtOptions) -> anyhow::Result<()> {
    if options.files.is_empty() || options.files == [Path::new("-")] {
        let mut text = String::new();
        std::io::stdin().read_to_string(&mut text)?;
        let formatted = laid_out(&text, "the text")?;
        if !options.check {
            print!("{formatted}");
        } else if formatted != text {
            anyhow::bail!("the text is not laid out");
        }
        return Ok(());
    }
    let mut differ = vec![];
    for file in &options.files {
        let shown = file.display().to_string();
        let text = std::fs::read_to_string(file).with_context(|| format!("{shown} cannot be read"))?;
        let formatted = laid_out(&text, &shown)?;
        if formatted == text {
            continue;
        }
        if options.check {
            differ.push(shown);
        } else {
            std::fs::write(file, formatted).with_context(|| format!("{shown} cannot be written"))?;
            println!("{shown}");
        }
    }
    if !differ.is_empty() {
        anyhow::bail!("not laid out:\n  {}\nhint: graphodrome fmt does it", differ.join("\n  "));
    }
    Ok(())
}
