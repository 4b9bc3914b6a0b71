//! Writing tables.

use std::fs::File;
use std::io::{BufWriter, Write};
use std::path::Path;

use crate::{GenerateError, Made};

fn failed(path: &Path, error: impl std::fmt::Display) -> GenerateError {
    GenerateError::Write { path: path.display().to_string(), reason: error.to_string() }
}

pub(crate) fn create(path: &Path) -> Result<BufWriter<File>, GenerateError> {
    if let Some(folder) = path.parent() {
        std::fs::create_dir_all(folder).map_err(|e| failed(folder, e))?;
    }
    File::create(path).map(|f| BufWriter::with_capacity(1 << 20, f)).map_err(|e| failed(path, e))
}

pub(crate) fn text(path: &Path, text: &str) -> Result<(), GenerateError> {
    let mut out = create(path)?;
    out.write_all(text.as_bytes()).and_then(|()| out.flush()).map_err(|e| failed(path, e))
}

/// A Parquet file with columns of texts and dates.
pub(crate) fn parquet(
    path: &Path, columns: Vec<(&str, arrow_array::ArrayRef)>, made: &mut Made,
) -> Result<(), GenerateError> {
    let batch = arrow_array::RecordBatch::try_from_iter(columns).map_err(|e| failed(path, e))?;
    let properties = parquet::file::properties::WriterProperties::builder()
        .set_compression(parquet::basic::Compression::SNAPPY)
        .build();
    let mut writer = parquet::arrow::ArrowWriter::try_new(create(path)?, batch.schema(), Some(properties))
        .map_err(|e| failed(path, e))?;
    writer.write(&batch).map_err(|e| failed(path, e))?;
    writer.close().map_err(|e| failed(path, e))?;
    made.rows += batch.num_rows() as u64;
    made.files += 1;
    Ok(())
}

/// A CSV file with a header.
pub(crate) fn table(
    path: &Path, header: &[&str], rows: impl Iterator<Item = Vec<String>>, made: &mut Made,
) -> Result<(), GenerateError> {
    let mut writer = csv::Writer::from_writer(create(path)?);
    writer.write_record(header).map_err(|e| failed(path, e))?;
    for row in rows {
        writer.write_record(&row).map_err(|e| failed(path, e))?;
        made.rows += 1;
    }
    writer.flush().map_err(|e| failed(path, e))?;
    made.files += 1;
    Ok(())
}
