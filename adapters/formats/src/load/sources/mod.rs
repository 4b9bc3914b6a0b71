//! Sources: from the bytes of a file, in whichever format, to what tables are read from: text rows (CSV
//! or JSON Lines) or columnar batches. Formats that are neither are written anew as JSON Lines, into a
//! temporary file without a name.

mod decode;
mod graphml;
mod json_array;
mod quads;

use std::fs::File;
use std::io::{BufWriter, Write};
use std::sync::Arc;
use std::sync::atomic::Ordering;

use memmap2::Mmap;

pub(crate) use decode::{BLOCK, Coding, Counted, decode};
use decode::{is_utf8, wrong_encoding};

use crate::load::{LoadError, Progress};
use crate::mapping::{Compression, Encoding, Part, TableFormat, TableMapping};

/// The bytes of a source file.
pub enum Source {
    Bytes(Vec<u8>),
    Mapped(Mmap),
}

impl Source {
    pub fn bytes(&self) -> &[u8] {
        match self {
            Source::Bytes(bytes) => bytes,
            Source::Mapped(map) => map,
        }
    }

    /// Maps a file that nobody else can change: a temporary one without a name.
    pub fn of_temporary(file: &File) -> std::io::Result<Source> {
        if file.metadata()?.len() == 0 {
            return Ok(Source::Bytes(vec![]));
        }
        // SAFETY: the file has no name and is ours alone, so nobody changes it under the map.
        Ok(Source::Mapped(unsafe { Mmap::map(file) }?))
    }
}

/// A temporary file being written.
pub(crate) struct Spool {
    file: BufWriter<File>,
}

impl Spool {
    pub fn new() -> std::io::Result<Spool> {
        Ok(Spool { file: BufWriter::with_capacity(1 << 20, tempfile::tempfile()?) })
    }

    pub fn finish(mut self) -> std::io::Result<Source> {
        self.file.flush()?;
        Source::of_temporary(self.file.get_ref())
    }
}

impl Write for Spool {
    fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
        self.file.write(bytes)
    }

    fn flush(&mut self) -> std::io::Result<()> {
        self.file.flush()
    }
}

/// A source ready to be read as a table.
pub(crate) struct Opened {
    /// csv, tsv, jsonl, parquet or arrow.
    pub format: TableFormat,
    pub source: Arc<Source>,
    /// How text rows are to be decoded while they are read; plain where the source is the text.
    pub coding: Coding,
    /// The first bytes of the text, for the header of CSV.
    pub head: Vec<u8>,
}

/// Bytes within which a header must end.
const HEAD: usize = 1 << 20;
/// Bytes of a CSV file that are looked at for its encoding.
const LOOKED_AT: usize = 64 << 10;

pub(crate) fn table_error(table: &str, message: impl Into<String>) -> LoadError {
    LoadError::Table { table: table.into(), message: message.into() }
}

/// Writes a text anew as JSON Lines.
type Rewrite<'r> = &'r dyn Fn(&[u8], &mut Spool) -> Result<(), String>;

/// Makes a table's source ready. `limit` is how much it may unpack to.
pub(crate) fn open(
    table: &TableMapping, name: &str, source: &Arc<Source>, limit: u64, progress: &Progress,
) -> Result<Opened, LoadError> {
    let format = match table.format {
        Some(format) => format,
        None if table.query.is_some() => TableFormat::Csv,
        None => TableFormat::of_name(name).map_or_else(|| table.format(), Ok)?,
    };
    let compression = if table.query.is_some() { Compression::None } else { Compression::of_name(name) };
    let coding = Coding { compression, encoding: table.encoding };
    let failed = |message: String| table_error(name, message);
    let unpacked = |coding: Coding| -> Result<Arc<Source>, LoadError> {
        if coding.is_plain() {
            return Ok(source.clone());
        }
        let mut spool = Spool::new().map_err(|e| failed(cannot_keep(e)))?;
        let taken = |_: u64| {};
        decode(Counted { bytes: source.bytes(), taken: &taken }, coding, limit, &mut |block| {
            progress.check().map_err(|_| String::new())?;
            spool.write_all(block).map_err(cannot_keep)?;
            Ok(true)
        })
        .map_err(|message| if progress.is_cancelled() { LoadError::Cancelled } else { failed(message) })?;
        spool.finish().map(Arc::new).map_err(|e| failed(cannot_keep(e)))
    };
    let lines = |text: Arc<Source>, rows: Rewrite<'_>| {
        let mut spool = Spool::new().map_err(|e| failed(cannot_keep(e)))?;
        rows(text.bytes(), &mut spool).map_err(|message| {
            if progress.is_cancelled() { LoadError::Cancelled } else { failed(message) }
        })?;
        let source = Arc::new(spool.finish().map_err(|e| failed(cannot_keep(e)))?);
        Ok(Opened { format: TableFormat::Jsonl, source, coding: PLAIN, head: vec![] })
    };
    let part = table.part.unwrap_or(Part::Nodes);
    match format {
        TableFormat::Parquet | TableFormat::Arrow => {
            let source = unpacked(Coding { encoding: Encoding::Utf8, ..coding })?;
            Ok(Opened { format, source, coding: PLAIN, head: vec![] })
        }
        TableFormat::Json => lines(unpacked(coding)?, &|bytes, out| json_array::rows(bytes, out, progress)),
        TableFormat::GraphMl => {
            lines(unpacked(coding)?, &|bytes, out| graphml::rows(bytes, part, out, progress))
        }
        TableFormat::NQuads => {
            lines(unpacked(coding)?, &|bytes, out| quads::rows(bytes, part, out, progress))
        }
        TableFormat::Csv | TableFormat::Tsv | TableFormat::Jsonl => {
            let plain = match compression {
                Compression::None => wrong_encoding(source.bytes(), table.encoding),
                _ => None,
            };
            if let Some(hint) = plain {
                return Err(failed(hint.into()));
            }
            let mut head = vec![];
            if !coding.is_plain() {
                let taken = |_: u64| {};
                decode(Counted { bytes: source.bytes(), taken: &taken }, coding, u64::MAX, &mut |block| {
                    head.extend_from_slice(&block[..block.len().min(HEAD)]);
                    Ok(false)
                })
                .map_err(failed)?;
                if let Some(hint) = wrong_encoding(&head, table.encoding) {
                    return Err(failed(hint.into()));
                }
            }
            Ok(Opened { format, source: source.clone(), coding, head })
        }
    }
}

/// A source as plain CSV, JSON Lines, Parquet or Arrow: to be looked at before there is a mapping. It may unpack to
/// `limit` bytes.
pub(crate) fn plain_source(
    name: &str, format: TableFormat, source: &Arc<Source>, limit: u64,
) -> Result<(TableFormat, Arc<Source>), LoadError> {
    let progress = Progress::default();
    let table = TableMapping { file: name.into(), format: Some(format), ..TableMapping::default() };
    if format.has_parts() {
        return Err(table_error(name, "it is a graph already, with nodes and edges: write a mapping for it"));
    }
    let opened = open(&table, name, source, limit, &progress)?;
    if opened.coding.is_plain() {
        return Ok((opened.format, opened.source));
    }
    let mut spool = Spool::new().map_err(|e| table_error(name, cannot_keep(e)))?;
    let taken = |_: u64| {};
    decode(Counted { bytes: source.bytes(), taken: &taken }, opened.coding, limit, &mut |block| {
        spool.write_all(block).map_err(cannot_keep)?;
        Ok(true)
    })
    .map_err(|message| table_error(name, message))?;
    let source = spool.finish().map_err(|e| table_error(name, cannot_keep(e)))?;
    Ok((opened.format, Arc::new(source)))
}

pub(crate) const PLAIN: Coding = Coding { compression: Compression::None, encoding: Encoding::Utf8 };

pub(crate) fn cannot_keep(error: std::io::Error) -> String {
    format!("the text cannot be kept in the temporary folder: {error}")
}

/// What to do about rows that are no UTF-8, where there are some.
pub(crate) fn encoding_hint(bytes: &[u8]) -> &'static str {
    let looked = &bytes[..bytes.len().min(LOOKED_AT)];
    if is_utf8(looked) {
        "the text is not valid UTF-8"
    } else {
        "the text is not valid UTF-8; if the whole file is written so, declare its encoding, such as encoding = \"windows-1252\""
    }
}

/// Counts the bytes that a decoder has taken.
pub(crate) fn taken(progress: &Progress) -> impl Fn(u64) + Sync + '_ {
    |bytes| {
        progress.bytes_read.fetch_add(bytes, Ordering::Relaxed);
    }
}
