//! `generate`: tables of made-up graphs.

use std::collections::BTreeMap;

use anyhow::Context;
use graphodrome_generator::{
    Format, Output, Packing, Shape, Spread, Style, Wanted, graph_of_model, random_graph, scenario,
};
use graphodrome_language::parse_graph_type;

use crate::arguments::{
    GenerateCommand, GenerateOptions, GenerateOutput, PackingKind, SpreadKind, TableKind,
};

fn output_of(options: &GenerateOutput) -> anyhow::Result<Output> {
    let format = match options.format {
        TableKind::Csv => Format::Csv,
        TableKind::Jsonl => Format::Jsonl,
        TableKind::Parquet => Format::Parquet,
        TableKind::Arrow => Format::Arrow,
    };
    let packing = match options.packing {
        PackingKind::None => Packing::None,
        PackingKind::Gzip => Packing::Gzip,
        PackingKind::Zstandard => Packing::Zstandard,
    };
    let is_text = matches!(format, Format::Csv | Format::Jsonl);
    anyhow::ensure!(
        is_text || packing == Packing::None,
        "parquet and arrow tables are compressed by themselves: leave --packing out"
    );
    Ok(Output { format, packing })
}

fn spread(kind: SpreadKind) -> Spread {
    match kind {
        SpreadKind::Even => Spread::Even,
        SpreadKind::Skewed => Spread::Skewed,
    }
}

pub fn generate(options: GenerateOptions) -> anyhow::Result<()> {
    let random = |shape: Shape, properties: bool, options: &GenerateOutput| {
        let style = Style { output: output_of(options)?, properties };
        Ok::<_, anyhow::Error>(random_graph(shape, options.seed, style, &options.out)?)
    };
    let (made, out) = match options.what {
        GenerateCommand::Scenario { junctions, output } => {
            (scenario(junctions, output.seed, output_of(&output)?, &output.out)?, output.out)
        }
        GenerateCommand::Random { nodes, edges, quarters, properties, output } => {
            let shape = match quarters {
                Some((a, b, c)) => Shape::Quarters { nodes, edges, a, b, c },
                None => Shape::Even { nodes, edges },
            };
            (random(shape, properties, &output)?, output.out)
        }
        GenerateCommand::PowerLaw { nodes, edges, exponent, properties, output } => {
            (random(Shape::PowerLaw { nodes, edges, exponent }, properties, &output)?, output.out)
        }
        GenerateCommand::Grid { width, height, properties, output } => {
            (random(Shape::Grid { width, height }, properties, &output)?, output.out)
        }
        GenerateCommand::Tree { nodes, branches, properties, output } => {
            (random(Shape::Tree { nodes, branches }, properties, &output)?, output.out)
        }
        GenerateCommand::Model { model, scale, counts, degree, degrees, values, nulls, output } => {
            let text = std::fs::read_to_string(&model).with_context(|| model.display().to_string())?;
            let graph_type = parse_graph_type(&text).map_err(|e| {
                anyhow::anyhow!("{}: {}", model.display(), e.0.first().map_or("", |d| &d.message))
            })?;
            anyhow::ensure!((1.0..=4e9).contains(&scale), "--scale is a number of nodes from 1 to 4e9");
            anyhow::ensure!((0.0..=1.0).contains(&nulls), "--nulls is a share from 0 to 1");
            let count = |text: &String| {
                let (label, count) =
                    text.split_once('=').with_context(|| format!("--count {text}: write LABEL=N"))?;
                let count: f64 =
                    count.parse().with_context(|| format!("--count {text}: {count} is no number"))?;
                Ok::<_, anyhow::Error>((label.to_string(), count as u64))
            };
            let wanted = Wanted {
                nodes: scale as u64,
                degree,
                counts: counts.iter().map(count).collect::<Result<BTreeMap<_, _>, _>>()?,
                degrees: spread(degrees),
                values: spread(values),
                nulls,
                seed: output.seed,
            };
            let made = graph_of_model(&graph_type, &text, &wanted, output_of(&output)?, &output.out)?;
            (made, output.out)
        }
    };
    println!("{} files with {} rows in {}", made.files, made.rows, out.display());
    Ok(())
}
