//! A full disk that is freed again: answered changes are stored, refused ones are not, reads continue, and nothing
//! needs a restart.

#![allow(clippy::unwrap_used)]

#[path = "durability/bank.rs"]
mod bank;

use std::io::Write;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::time::{Duration, Instant};

use graphodrome_tests::*;
use serde_json::json;

use bank::{Moments, Writers, assert_true, open_bank, settings};

/// A file system of its own with so many MiB; `None` where this machine lets nobody make one.
struct Small(PathBuf);

impl Small {
    fn mounted(folder: &Path, mib: u32) -> Option<Small> {
        let size = format!("size={mib}m,mode=0755");
        let made = Command::new("mount").args(["-t", "tmpfs", "-o", &size, "tmpfs"]).arg(folder).status();
        made.is_ok_and(|status| status.success()).then(|| Small(folder.to_path_buf()))
    }

    /// Takes all room that is left.
    fn fill(&self) -> PathBuf {
        let ballast = self.0.join("ballast");
        let mut file = std::fs::File::create(&ballast).unwrap();
        for size in [1 << 20, 1 << 12, 1] {
            let piece = vec![7u8; size];
            while file.write_all(&piece).is_ok() {}
        }
        ballast
    }
}

impl Drop for Small {
    fn drop(&mut self) {
        let _ = Command::new("umount").arg("-l").arg(&self.0).status();
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_full_disk_refuses_and_loses_nothing() {
    let (rounds, seed) = settings(3);
    println!("seed {seed}");
    let mut moments = Moments(seed);
    let place = folder();
    let Some(small) = Small::mounted(place.path(), 250) else {
        // What is written beyond a limit of a file's size is tried in trouble.rs.
        println!("no file system can be mounted here");
        return;
    };
    let data = small.0.join("data");
    std::fs::create_dir(&data).unwrap();
    let mut service = Running::start(&data, &[]);
    open_bank(&service.client()).await;
    let mut all = vec![];
    for round in 0..rounds {
        let client = service.client();
        let writers = Writers::start(&service, round, 4);
        let within = Duration::from_secs(120);
        writers.go_on(1 + moments.next(200) as i64, within).await;
        let ballast = small.fill();
        // Until nothing is written any more, and a while beyond it.
        let mut since = (Instant::now(), writers.made());
        let (began, quiet) = (Instant::now(), Duration::from_millis(200 + moments.next(800)));
        while since.0.elapsed() < quiet && began.elapsed() < Duration::from_secs(30) {
            let now = writers.made();
            if now > since.1 {
                since = (Instant::now(), now);
            }
            tokio::task::yield_now().await;
        }
        let count = single(&client, "bank", "MATCH (a:Account) RETURN COUNT(*) AS n").await;
        assert_eq!(count, json!(10), "round {round}: reads go on");
        std::fs::remove_file(ballast).unwrap();
        writers.go_on(20, within).await;
        writers.stop(&mut all).await;
        assert_true(&client, &mut all, round).await;
        if round % 4 == 2 {
            service.kill();
            service = Running::start(&data, &[]);
            assert_true(&service.client(), &mut all, round).await;
        }
    }
    bank::print(&all);
    assert!(service.interrupt());
}
