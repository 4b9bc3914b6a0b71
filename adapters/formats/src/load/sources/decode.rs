//! Bytes as files have them to UTF-8: decompression and decoding, in blocks, never more than the limit.

use std::io::Read;

use encoding_rs::{CoderResult, Decoder, DecoderResult, UTF_8, UTF_16BE, UTF_16LE, WINDOWS_1252};

use crate::mapping::{Compression, Encoding};

/// Bytes that a block of decoded text aims at.
pub(crate) const BLOCK: usize = 4 << 20;

/// What stands between a file's bytes and its text.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Coding {
    pub compression: Compression,
    pub encoding: Encoding,
}

impl Coding {
    /// Whether the bytes are the text.
    pub fn is_plain(self) -> bool {
        self.compression == Compression::None && self.encoding == Encoding::Utf8
    }
}

/// Counts the compressed bytes taken, for the progress.
pub(crate) struct Counted<'s, 'p> {
    pub bytes: &'s [u8],
    pub taken: &'p (dyn Fn(u64) + Sync),
}

impl Read for Counted<'_, '_> {
    fn read(&mut self, buffer: &mut [u8]) -> std::io::Result<usize> {
        let length = self.bytes.read(buffer)?;
        (self.taken)(length as u64);
        Ok(length)
    }
}

/// Decodes `source` and hands each block over; ends early where `take` says so.
pub(crate) fn decode(
    source: Counted<'_, '_>, coding: Coding, limit: u64, take: &mut dyn FnMut(&[u8]) -> Result<bool, String>,
) -> Result<(), String> {
    let mut reader: Box<dyn Read + '_> = match coding.compression {
        Compression::None => Box::new(source),
        Compression::Gzip => Box::new(flate2::read::MultiGzDecoder::new(source)),
        Compression::Zstandard => {
            Box::new(zstd::stream::read::Decoder::new(source).map_err(|e| damaged(coding, e))?)
        }
    };
    let mut decoder = decoder_of(coding.encoding);
    let mut buffer = vec![0u8; 256 << 10];
    let mut block: Vec<u8> = Vec::with_capacity(BLOCK + (1 << 20));
    let (mut read_total, mut total) = (0u64, 0u64);
    loop {
        let length = reader.read(&mut buffer).map_err(|e| damaged(coding, e))?;
        let before = block.len();
        match &mut decoder {
            None => block.extend_from_slice(&buffer[..length]),
            Some(decoder) => transcode(decoder, &buffer[..length], length == 0, read_total, &mut block)?,
        }
        read_total += length as u64;
        total += (block.len() - before) as u64;
        if total > limit {
            return Err(format!(
                "it unpacks to more than the {} MiB that are left of the limit on uploads",
                limit >> 20
            ));
        }
        if block.len() >= BLOCK || length == 0 {
            let go_on = block.is_empty() || take(&block)?;
            block.clear();
            if length == 0 || !go_on {
                return Ok(());
            }
        }
    }
}

fn damaged(coding: Coding, error: std::io::Error) -> String {
    let kind = match coding.compression {
        Compression::Gzip => "the gzip data is damaged or cut off",
        Compression::Zstandard => "the Zstandard data is damaged or cut off",
        Compression::None => "the file cannot be read",
    };
    format!("{kind}: {error}")
}

fn decoder_of(encoding: Encoding) -> Option<Decoder> {
    Some(match encoding {
        // Checked row by row, so that one bad row is one reject.
        Encoding::Utf8 => return None,
        // The mark at the beginning decides the order of the bytes.
        Encoding::Utf16 | Encoding::Utf16Le => UTF_16LE.new_decoder(),
        Encoding::Utf16Be => UTF_16BE.new_decoder(),
        Encoding::Windows1252 => WINDOWS_1252.new_decoder_without_bom_handling(),
    })
}

fn transcode(
    decoder: &mut Decoder, mut bytes: &[u8], last: bool, before: u64, out: &mut Vec<u8>,
) -> Result<(), String> {
    let start = bytes.len();
    loop {
        let needed = decoder.max_utf8_buffer_length_without_replacement(bytes.len()).unwrap_or(BLOCK);
        let at = out.len();
        out.resize(at + needed.max(16), 0);
        let (result, read, written) = decoder.decode_to_utf8_without_replacement(bytes, &mut out[at..], last);
        out.truncate(at + written);
        bytes = &bytes[read..];
        match result {
            DecoderResult::InputEmpty => return Ok(()),
            DecoderResult::OutputFull => {}
            DecoderResult::Malformed(length, _) => {
                let place = before + (start - bytes.len()) as u64 - u64::from(length);
                return Err(format!(
                    "byte {place} is no {} text: declare the encoding it has",
                    decoder.encoding().name()
                ));
            }
        }
    }
}

/// What the first bytes of a text file say about its encoding, where that is not what was declared.
pub(crate) fn wrong_encoding(bytes: &[u8], declared: Encoding) -> Option<&'static str> {
    if declared != Encoding::Utf8 {
        return None;
    }
    match bytes {
        [0xFF, 0xFE, ..] | [0xFE, 0xFF, ..] => {
            Some("the file begins as UTF-16 does: add encoding = \"utf-16\"")
        }
        [0x1F, 0x8B, ..] => Some("the file is compressed with gzip: let its name end in .gz"),
        [0x28, 0xB5, 0x2F, 0xFD, ..] => {
            Some("the file is compressed with Zstandard: let its name end in .zst")
        }
        [b'P', b'K', 3, 4, ..] => Some("the file is a ZIP archive or a spreadsheet: save the table as CSV"),
        _ => None,
    }
}

/// Whether these bytes are UTF-8 as far as they go.
pub(crate) fn is_utf8(bytes: &[u8]) -> bool {
    let mut out = String::with_capacity(bytes.len() * 3 + 16);
    let mut decoder = UTF_8.new_decoder_without_bom_handling();
    let (result, _, had_errors) = decoder.decode_to_string(bytes, &mut out, false);
    result == CoderResult::InputEmpty && !had_errors
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used)]

    use std::io::Write;

    use super::*;

    fn decoded(
        bytes: &[u8], compression: Compression, encoding: Encoding, limit: u64,
    ) -> Result<Vec<u8>, String> {
        let mut out = vec![];
        let source = Counted { bytes, taken: &|_| {} };
        decode(source, Coding { compression, encoding }, limit, &mut |block| {
            out.extend_from_slice(block);
            Ok(true)
        })?;
        Ok(out)
    }

    #[test]
    fn texts_come_out_as_they_were() {
        let text = "Größe;€\n".repeat(100_000);
        let utf16: Vec<u8> =
            [0xFF, 0xFE].into_iter().chain(text.encode_utf16().flat_map(u16::to_le_bytes)).collect();
        assert_eq!(decoded(&utf16, Compression::None, Encoding::Utf16, 1 << 30).unwrap(), text.as_bytes());
        let (western, _, _) = WINDOWS_1252.encode(&text);
        assert_eq!(
            decoded(&western, Compression::None, Encoding::Windows1252, 1 << 30).unwrap(),
            text.as_bytes()
        );
        let mut gzip = flate2::write::GzEncoder::new(vec![], flate2::Compression::fast());
        gzip.write_all(text.as_bytes()).unwrap();
        let gzip = gzip.finish().unwrap();
        assert_eq!(decoded(&gzip, Compression::Gzip, Encoding::Utf8, 1 << 30).unwrap(), text.as_bytes());
        let zstd = zstd::encode_all(&western[..], 1).unwrap();
        let both = decoded(&zstd, Compression::Zstandard, Encoding::Windows1252, 1 << 30).unwrap();
        assert_eq!(both, text.as_bytes());
    }

    #[test]
    fn what_is_too_large_or_damaged_is_said() {
        let text = vec![b'x'; 10 << 20];
        let mut gzip = flate2::write::GzEncoder::new(vec![], flate2::Compression::best());
        gzip.write_all(&text).unwrap();
        let gzip = gzip.finish().unwrap();
        let bomb = decoded(&gzip, Compression::Gzip, Encoding::Utf8, 1 << 20).unwrap_err();
        assert!(bomb.contains("more than the 1 MiB"), "{bomb}");
        let cut = decoded(&gzip[..gzip.len() / 2], Compression::Gzip, Encoding::Utf8, 1 << 30).unwrap_err();
        assert!(cut.contains("damaged or cut off"), "{cut}");
        let odd =
            decoded(&[b'a', 0, 0, 0xD8, b'b', 0], Compression::None, Encoding::Utf16Le, 100).unwrap_err();
        assert!(odd.contains("byte 2"), "{odd}");
    }
}
