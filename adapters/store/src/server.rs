//! The private PostgreSQL: Debian's server binaries, a data folder of the service, a Unix socket accessible only to
//! its owner, no TCP. If the service runs as root, the server runs as `postgres` (or `nobody`), because PostgreSQL
//! refuses to run as root.

use std::os::unix::fs::{PermissionsExt, chown};
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::time::{Duration, Instant};

use crate::StoreError;

const USER: &str = "graphodrome";

pub struct PrivateServer {
    binaries: PathBuf,
    data: PathBuf,
    socket: PathBuf,
    /// Numeric user and group it runs as, when we are root.
    owner: Option<(u32, u32)>,
}

/// The folder with initdb, pg_ctl and postgres, newest version first.
pub fn find_server_binaries() -> Option<PathBuf> {
    let mut found: Vec<(u32, PathBuf)> = std::fs::read_dir("/usr/lib/postgresql")
        .into_iter()
        .flatten()
        .flatten()
        .filter_map(|entry| {
            let version = entry.file_name().to_str()?.parse().ok()?;
            let bin = entry.path().join("bin");
            bin.join("pg_ctl").exists().then_some((version, bin))
        })
        .collect();
    found.sort();
    found.pop().map(|(_, path)| path)
}

/// User and group number of a name in /etc/passwd.
fn account(name: &str) -> Option<(u32, u32)> {
    let passwd = std::fs::read_to_string("/etc/passwd").ok()?;
    passwd.lines().find_map(|line| {
        let mut fields = line.split(':');
        if fields.next() != Some(name) {
            return None;
        }
        Some((fields.nth(1)?.parse().ok()?, fields.next()?.parse().ok()?))
    })
}

fn server_error(what: &str, error: impl std::fmt::Display) -> StoreError {
    StoreError::Server(format!("{what}: {error}"))
}

/// How long it is tried to start one.
const LAUNCHING: Duration = Duration::from_secs(10);

/// How long a server may take to stop, or to start.
const PATIENCE: Duration = Duration::from_secs(60);

impl PrivateServer {
    /// Starts the server in `folder`, made first if it is not there; one that was left running is
    /// taken over.
    pub fn start(folder: &Path) -> Result<PrivateServer, StoreError> {
        let binaries = find_server_binaries().ok_or_else(|| {
            StoreError::Server("PostgreSQL's server is not installed: run apt-get install postgresql, or name a database with --database-url".into())
        })?;
        std::fs::create_dir_all(folder).map_err(|e| server_error("the data folder cannot be made", e))?;
        let folder = folder.canonicalize().map_err(|e| server_error("the data folder cannot be read", e))?;
        let owner =
            if rustix::process::geteuid().is_root() {
                Some(account("postgres").or_else(|| account("nobody")).ok_or_else(|| {
                    StoreError::Server("there is no user postgres to run PostgreSQL as".into())
                })?)
            } else {
                None
            };
        let home = folder.join("postgres");
        let socket = socket_folder(&folder);
        let server = PrivateServer { binaries, data: home.join("data"), socket, owner };
        server.own_folder(&home)?;
        server.own_folder(&server.socket)?;
        if !server.data.join("PG_VERSION").exists() {
            server.create(&home)?;
        }
        server.wait_while_stopping()?;
        if !server.is_running() {
            server.wait_while("come to its end", || !server.has_process() && server.is_in_use())?;
            server.forget_dead();
            server.launch()?;
        }
        server.wait_until_ready()?;
        Ok(server)
    }

    /// Starts the server; again and again for a while, as what is left of one that died may still be there, or
    /// somebody else may be starting it at the same moment.
    fn launch(&self) -> Result<(), StoreError> {
        let began = Instant::now();
        loop {
            let Err(error) = self.try_launch() else { return Ok(()) };
            if self.is_running() {
                return Ok(());
            }
            if began.elapsed() > LAUNCHING {
                return Err(error);
            }
            std::thread::sleep(Duration::from_millis(200));
            self.forget_dead();
        }
    }

    fn try_launch(&self) -> Result<(), StoreError> {
        let log = self.data.with_file_name("server.log");
        let started = self.run(
            "pg_ctl",
            &[
                "start",
                "--wait",
                "--timeout=60",
                "-D",
                &self.data.to_string_lossy(),
                "-l",
                &log.to_string_lossy(),
                "-o",
                &format!("-k {}", self.socket.display()),
            ],
        );
        started.map_err(|error| server_error(&format!("see {}", log.display()), error))
    }

    /// Starts the server where it does not run; whether it did not.
    pub fn start_again(&self) -> Result<bool, StoreError> {
        self.wait_while_stopping()?;
        if self.is_running() {
            return Ok(false);
        }
        self.forget_dead();
        self.launch()?;
        Ok(true)
    }

    /// The process that the folder's file says is the server.
    fn process(&self) -> Option<u32> {
        let file = std::fs::read_to_string(self.data.join("postmaster.pid")).ok()?;
        file.lines().next()?.trim().parse().ok()
    }

    /// Whether that process is there.
    pub fn has_process(&self) -> bool {
        self.process().is_some_and(is_alive)
    }

    /// Removes the file of a server that has died where nobody has taken its process away yet: PostgreSQL itself would
    /// take it for a running one. Not before the last of its processes has gone.
    fn forget_dead(&self) {
        let is_dead = |process: u32| Path::new(&format!("/proc/{process}")).exists() && !is_alive(process);
        if self.process().is_some_and(is_dead) && !self.is_in_use() {
            let _ = std::fs::remove_file(self.data.join("postmaster.pid"));
        }
    }

    /// Whether some process works in the data folder, as all of PostgreSQL's do.
    fn is_in_use(&self) -> bool {
        let Ok(processes) = std::fs::read_dir("/proc") else { return true };
        let in_it =
            |folder: PathBuf| std::fs::read_link(folder.join("cwd")).is_ok_and(|cwd| cwd == self.data);
        processes.flatten().any(|process| in_it(process.path()))
    }

    /// Makes a folder that only the server's user can enter.
    fn own_folder(&self, path: &Path) -> Result<(), StoreError> {
        let failed = |e| server_error(&format!("the folder {} cannot be made", path.display()), e);
        std::fs::create_dir_all(path).map_err(failed)?;
        std::fs::set_permissions(path, std::fs::Permissions::from_mode(0o700)).map_err(failed)?;
        if let Some((user, group)) = self.owner {
            chown(path, Some(user), Some(group)).map_err(failed)?;
            self.open_way_to(path)?;
        }
        Ok(())
    }

    /// As root: lets the server's user pass through the folders above its own (search only).
    fn open_way_to(&self, path: &Path) -> Result<(), StoreError> {
        for above in path.ancestors().skip(1).filter(|p| !p.as_os_str().is_empty()) {
            let Ok(meta) = std::fs::metadata(above) else { continue };
            let mode = meta.permissions().mode();
            if mode & 0o001 == 0 {
                let opened = std::fs::Permissions::from_mode(mode | 0o001);
                tracing::warn!(folder = %above.display(), "PostgreSQL's user is let through this folder (o+x)");
                std::fs::set_permissions(above, opened).map_err(|e| {
                    server_error(&format!("{} cannot be entered by PostgreSQL's user", above.display()), e)
                })?;
            }
        }
        Ok(())
    }

    fn create(&self, home: &Path) -> Result<(), StoreError> {
        // Into a folder beside it first: a start that is killed in the middle leaves no half cluster.
        let fresh = home.join("data.new");
        if fresh.exists() {
            std::fs::remove_dir_all(&fresh)
                .map_err(|e| server_error("an unfinished cluster cannot be removed", e))?;
        }
        self.run(
            "initdb",
            &[
                "-D",
                &fresh.to_string_lossy(),
                "-U",
                USER,
                "-E",
                "UTF8",
                "--locale=C",
                "--auth=trust",
                // All of it at the end, with the settings.
                "--no-sync",
            ],
        )?;
        let settings = "
# Only the Unix socket, which only the owner can reach.
listen_addresses = ''
unix_socket_permissions = 0700
shared_buffers = 128MB
max_connections = 40
max_wal_size = 4GB
wal_compression = off
checkpoint_timeout = 15min
logging_collector = off
";
        let file = fresh.join("postgresql.conf");
        let mut text = std::fs::read_to_string(&file).map_err(|e| server_error("postgresql.conf", e))?;
        text.push_str(settings);
        std::fs::write(&file, text).map_err(|e| server_error("postgresql.conf", e))?;
        self.run("initdb", &["--sync-only", "-D", &fresh.to_string_lossy()])?;
        std::fs::rename(&fresh, &self.data)
            .map_err(|e| server_error("the new cluster cannot be put in place", e))
    }

    /// What the server says of itself, in the eighth line of its file.
    fn says(&self, wanted: &str) -> bool {
        let file = std::fs::read_to_string(self.data.join("postmaster.pid"));
        file.is_ok_and(|text| text.lines().nth(7).is_some_and(|state| state.trim() == wanted))
    }

    /// A service that was just told to stop may still be stopping its server: it is waited for.
    fn wait_while_stopping(&self) -> Result<(), StoreError> {
        self.wait_while("come to its end", || self.says("stopping") && self.is_running())
    }

    /// Somebody else may have started it just now, or it may be recovering.
    fn wait_until_ready(&self) -> Result<(), StoreError> {
        self.wait_while("begin to answer", || !self.says("ready") && self.is_running())
    }

    fn wait_while(&self, wanted: &str, waiting: impl Fn() -> bool) -> Result<(), StoreError> {
        let started = Instant::now();
        while waiting() {
            if started.elapsed() > PATIENCE {
                let data = self.data.display();
                return Err(StoreError::Server(format!("the PostgreSQL server in {data} does not {wanted}")));
            }
            std::thread::sleep(Duration::from_millis(50));
        }
        Ok(())
    }

    fn is_running(&self) -> bool {
        self.has_process() && self.run("pg_ctl", &["status", "-D", &self.data.to_string_lossy()]).is_ok()
    }

    fn run(&self, program: &str, arguments: &[&str]) -> Result<(), StoreError> {
        let mut command = Command::new(self.binaries.join(program));
        // Its output goes to a file: a server that inherits a pipe would keep it open for ever.
        let output = tempfile_in(&self.socket);
        let to = std::fs::File::create(&output).map_err(|e| server_error("the log cannot be written", e))?;
        let also = to.try_clone().map_err(|e| server_error("the log cannot be written", e))?;
        command.args(arguments).current_dir("/").stdin(std::process::Stdio::null()).stdout(to).stderr(also);
        command.env_remove("PGDATA").env_remove("PGHOST").env_remove("PGPORT").env("LC_ALL", "C");
        if let Some((user, group)) = self.owner {
            command.uid(user).gid(group);
        }
        // Out of the terminal's process group: Ctrl+C reaches the service, which stops the server.
        command.process_group(0);
        let status =
            command.status().map_err(|e| server_error(&format!("{program} cannot be started"), e))?;
        let said = std::fs::read_to_string(&output).unwrap_or_default();
        let _ = std::fs::remove_file(&output);
        if status.success() {
            Ok(())
        } else {
            Err(StoreError::Server(format!("{program} failed: {}", said.trim())))
        }
    }

    /// Where clients connect.
    pub fn url(&self) -> String {
        let host: String = self
            .socket
            .to_string_lossy()
            .bytes()
            .map(|b| if b.is_ascii_alphanumeric() { (b as char).to_string() } else { format!("%{b:02X}") })
            .collect();
        format!("postgres://{USER}@{host}/postgres")
    }

    /// The folder of its socket, for tools such as psql.
    pub fn socket_folder(&self) -> &Path {
        &self.socket
    }

    pub fn stop(&self) -> Result<(), StoreError> {
        if !self.is_running() {
            return Ok(());
        }
        self.run("pg_ctl", &["stop", "--wait", "--mode=fast", "-D", &self.data.to_string_lossy()])
    }
}

/// Whether a process is there and has not ended.
fn is_alive(process: u32) -> bool {
    let stat = std::fs::read_to_string(format!("/proc/{process}/stat")).unwrap_or_default();
    // The state comes after the name, which stands in parentheses.
    stat.rsplit_once(')').is_some_and(|(_, rest)| !rest.trim_start().starts_with(['Z', 'X']))
}

/// Beside the data where the path is short enough for a socket (107 bytes), otherwise in the
/// temporary folder under a name that the data folder decides.
fn socket_folder(folder: &Path) -> PathBuf {
    let beside = folder.join("postgres/socket");
    if beside.as_os_str().len() < 80 {
        return beside;
    }
    let mark = crc32fast::hash(folder.as_os_str().as_encoded_bytes());
    std::env::temp_dir().join(format!("graphodrome-{mark:08x}"))
}

fn tempfile_in(folder: &Path) -> PathBuf {
    folder.join(format!("command-{}.log", std::process::id()))
}
