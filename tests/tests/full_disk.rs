//! A disk that is full, and has room again: what was answered is there, what was refused is not, reads go on, and nobody
//! has to start anything anew.

#![allow(clippy::unwrap_used)]

#[path = "durability/bank.rs"]
mod bank;

use std::io::Write;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicI64, Ordering};
use std::time::{Duration, Instant};

use graphodrome_tests::*;
use serde_json::json;

use bank::{assert_true, move_amounts, open_bank, settings};

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
    let mut seed = seed;
    let mut moment = |below: u64| {
        seed = seed.wrapping_mul(6364136223846793005).wrapping_add(1442695040888963407);
        (seed >> 33) % below
    };
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
        let (stop, made) = (Arc::new(AtomicBool::new(false)), Arc::new(AtomicI64::new(0)));
        let writers: Vec<_> = (0..4)
            .map(|writer| {
                let number = round as i64 * 8 + writer;
                tokio::spawn(move_amounts(service.client(), number, stop.clone(), made.clone()))
            })
            .collect();
        let goes_on = async |more: i64| {
            let (began, first) = (Instant::now(), made.load(Ordering::SeqCst));
            while made.load(Ordering::SeqCst) < first + more {
                assert!(began.elapsed() < Duration::from_secs(120), "round {round}: changes do not come on");
                tokio::task::yield_now().await;
            }
        };
        goes_on(1 + moment(200) as i64).await;
        let ballast = small.fill();
        // Until nothing is written any more, and a while beyond it.
        let mut since = (Instant::now(), made.load(Ordering::SeqCst));
        let (began, quiet) = (Instant::now(), Duration::from_millis(200 + moment(800)));
        while since.0.elapsed() < quiet && began.elapsed() < Duration::from_secs(30) {
            let now = made.load(Ordering::SeqCst);
            if now > since.1 {
                since = (Instant::now(), now);
            }
            tokio::task::yield_now().await;
        }
        let count = single(&client, "bank", "MATCH (a:Account) RETURN COUNT(*) AS n").await;
        assert_eq!(count, json!(10), "round {round}: reads go on");
        std::fs::remove_file(ballast).unwrap();
        goes_on(20).await;
        stop.store(true, Ordering::SeqCst);
        for writer in writers {
            all.push(writer.await.unwrap());
        }
        assert_true(&client, &all, round).await;
        if round % 4 == 2 {
            service.kill();
            service = Running::start(&data, &[]);
            assert_true(&service.client(), &all, round).await;
        }
    }
    let count = |of: fn(&bank::Told) -> usize| all.iter().map(of).sum::<usize>();
    println!(
        "{} written, {} refused, {} not known at first",
        count(|t| t.written.len()),
        count(|t| t.refused.len()),
        count(|t| t.unknown.len())
    );
    assert!(service.interrupt());
}
