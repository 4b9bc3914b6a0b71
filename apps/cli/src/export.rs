//! `export`: a graph, or a part of it, into files of open formats.

use std::io::Write;
use std::path::{Path, PathBuf};

use anyhow::Context;
use graphodrome_client::Client;
use graphodrome_formats::ExportFormat;
use serde_json::{Map, json};

use crate::arguments::ExportOptions;
use crate::queries;

/// Formats as the command line calls them.
fn format_of(options: &ExportOptions) -> anyhow::Result<ExportFormat> {
    let suffix = options.out.as_deref().and_then(Path::extension).and_then(|e| e.to_str());
    let by_name = |name: &str| ExportFormat::ALL.into_iter().find(|f| f.name() == name);
    match (&options.format, suffix) {
        (Some(name), _) => by_name(name).context("there is no such format"),
        (None, Some("nq")) => Ok(ExportFormat::NQuads),
        (None, Some(suffix)) => by_name(suffix).with_context(|| {
            format!("the format is not clear from the suffix {suffix}: name it with --format")
        }),
        (None, None) => Ok(ExportFormat::Csv),
    }
}

pub async fn export(client: &Client, options: ExportOptions) -> anyhow::Result<()> {
    let format = format_of(&options)?;
    let query = match &options.file {
        Some(file) => Some(std::fs::read_to_string(file).with_context(|| file.display().to_string())?),
        None => options.query.clone(),
    };
    let mut parameters = Map::new();
    for parameter in &options.parameters {
        let (name, value) = queries::parameter(parameter)?;
        parameters.insert(name, value);
    }
    let request = json!({
        "format": format.name(), "labels": options.labels, "query": query, "parameters": parameters,
        "base": options.base, "at_version": options.at.at_version, "at_timestamp": options.at.at_timestamp,
    });
    let mut answer = client.export(&options.graph, &request).await?;
    let losses: Vec<String> = answer
        .headers()
        .get("export-losses")
        .and_then(|h| h.to_str().ok())
        .and_then(|text| serde_json::from_str(text).ok())
        .unwrap_or_default();
    let broken = "the export broke off; what was written is not whole";
    if format.is_pair() {
        let target =
            options.out.clone().unwrap_or_else(|| PathBuf::from(format!("{}_export", options.graph)));
        // A name that is the archive's own keeps the archive.
        let keep = target.extension().is_some_and(|e| e == "zip");
        if !keep {
            std::fs::create_dir_all(&target).with_context(|| target.display().to_string())?;
        }
        let mut file = match keep {
            true => std::fs::File::create(&target).with_context(|| target.display().to_string())?,
            false => tempfile::tempfile()?,
        };
        while let Some(chunk) = answer.chunk().await.context(broken)? {
            file.write_all(&chunk)?;
        }
        if keep {
            println!("{}", target.display());
        } else {
            let mut archive = zip::ZipArchive::new(file).context(broken)?;
            for place in 0..archive.len() {
                let mut entry = archive.by_index(place).context(broken)?;
                let name = entry.enclosed_name().context("the archive names a file outside the folder")?;
                let path = target.join(name);
                let mut out = std::fs::File::create(&path).with_context(|| path.display().to_string())?;
                std::io::copy(&mut entry, &mut out)?;
                println!("{}", path.display());
            }
        }
    } else {
        let mut out: Box<dyn Write> = match &options.out {
            Some(path) => {
                let file = std::fs::File::create(path).with_context(|| path.display().to_string())?;
                Box::new(std::io::BufWriter::new(file))
            }
            None => Box::new(std::io::stdout().lock()),
        };
        while let Some(chunk) = answer.chunk().await.context(broken)? {
            out.write_all(&chunk)?;
        }
        out.flush()?;
        if let Some(path) = &options.out {
            println!("{}", path.display());
        }
    }
    for loss in losses {
        eprintln!("note: {loss}");
    }
    Ok(())
}
