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
