//! Damaged copies of two tables: a duplicate, a dangling reference, a text in a number column, an
//! impossible date, an empty key, a short row, a bad encoding, a key twice with different values.

use std::io::Write;
use std::path::Path;

use crate::write::create;
use crate::{GenerateError, Made};

const JUNCTIONS: &[&[u8]] = &[
    b"code,elevation_m,x_m,y_m\n",
    b"J-90001,88.5,10.0,20.0\n",
    b"J-90002,seven,11.0,21.0\n",
    b"J-90003,90.1,12.0,22.0\n",
    b"J-90001,88.5,10.0,20.0\n",
    b",91.0,13.0,23.0\n",
    b"J-90004,92.4\n",
    b"J-90005,93.0,14.0,24.0\n",
    b"J-90005,99.9,14.0,24.0\n",
    b"J-9\xE4006,94.0,15.0,25.0\n",
    b"J-90007,1e999,16.0,26.0\n",
];

const VALVES: &[&[u8]] = &[
    b"valve,kind,normally,installed,junction,side\n",
    b"V-9001,gate,open,2011-04-02,J-90001,upstream\n",
    b"V-9002,check,open,2019-02-30,J-90003,upstream\n",
    b"V-9003,gate,closed,2015-06-21,J-99999,downstream\n",
    b"V-9004,\"butterfly, large\",open,,J-90005,upstream\n",
    b"V-9005,gate,,2001-01-01,J-90003,upstream\n",
];

pub(crate) fn write(folder: &Path, made: &mut Made) -> Result<(), GenerateError> {
    for (name, lines) in [("dirty/junctions.csv", JUNCTIONS), ("dirty/valves.csv", VALVES)] {
        let path = folder.join(name);
        let mut out = create(&path)?;
        let failed = |e: std::io::Error| GenerateError::Write {
            path: path.display().to_string(),
            reason: e.to_string(),
        };
        for line in lines {
            out.write_all(line).map_err(failed)?;
        }
        out.flush().map_err(failed)?;
        made.files += 1;
        made.rows += lines.len() as u64 - 1;
    }
    Ok(())
}
