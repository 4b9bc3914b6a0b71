//! The browser: started, and what a person does in it.

use std::io::{BufRead, BufReader};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use graphodrome_tests::*;
use thirtyfour::prelude::*;

/// A service with the demo graph, and a browser; all of it ends with the test.
pub struct Session {
    pub service: Running,
    pub client: graphodrome_client::Client,
    pub page: WebDriver,
    _driver: Driver,
    _folders: [tempfile::TempDir; 2],
}

pub async fn session() -> Session {
    let data = folder();
    let service = Running::start(data.path(), &[]);
    let client = service.client();
    load_demo(&client).await;
    let driver = Driver::start();
    let profile = tempfile::tempdir().unwrap();
    let page = browser(&driver, profile.path()).await;
    Session { service, client, page, _driver: driver, _folders: [data, profile] }
}

struct Driver(Child, u16);

impl Driver {
    /// The port that it finds free may be another's by the time it listens there: then it ends, and is started again.
    fn start() -> Driver {
        (0..5).find_map(|_| Driver::started()).expect("chromedriver did not start five times")
    }

    fn started() -> Option<Driver> {
        let mut child = Command::new("chromedriver")
            .arg("--port=0")
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .spawn()
            .expect("chromedriver is not installed: apt-get install chromium chromium-driver");
        for line in BufReader::new(child.stdout.take().unwrap()).lines().map_while(Result::ok) {
            // "ChromeDriver was started successfully on port 12345."
            let port = line.rsplit("on port ").next().and_then(|p| p.trim_end_matches('.').parse().ok());
            if let (true, Some(port)) = (line.contains("started successfully"), port) {
                return Some(Driver(child, port));
            }
        }
        let _ = child.wait();
        None
    }
}

impl Drop for Driver {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

async fn browser(driver: &Driver, profile: &std::path::Path) -> WebDriver {
    let mut wanted = DesiredCapabilities::chrome();
    for argument in [
        "--headless=new",
        "--no-sandbox",
        "--disable-gpu",
        "--disable-dev-shm-usage",
        "--disable-quic",
        "--no-first-run",
        "--disable-background-networking",
        "--disable-component-update",
        "--disable-sync",
        "--window-size=1280,800",
    ] {
        wanted.add_arg(argument).unwrap();
    }
    wanted.add_arg(&format!("--user-data-dir={}", profile.display())).unwrap();
    WebDriver::new(format!("http://127.0.0.1:{}", driver.1), wanted).await.unwrap()
}

/// Waits until an element with this text is there.
pub async fn see(page: &WebDriver, selector: &str, text: &str) -> WebElement {
    let started = Instant::now();
    loop {
        for element in page.find_all(By::Css(selector)).await.unwrap_or_default() {
            if element.text().await.is_ok_and(|t| t.contains(text)) {
                return element;
            }
        }
        if started.elapsed() > Duration::from_secs(20) {
            let shown = page.find(By::Css("body")).await.unwrap().text().await.unwrap();
            panic!("{selector} with {text:?} does not appear:\n{shown}");
        }
        tokio::task::yield_now().await;
    }
}

/// Clicks what [`see`] finds, in the middle of the page: what lies below may still be moving.
pub async fn press(page: &WebDriver, selector: &str, text: &str) {
    let element = see(page, selector, text).await;
    let click = "arguments[0].scrollIntoView({ block: 'center' });
        arguments[0].dispatchEvent(new MouseEvent('click', { bubbles: true, cancelable: true }))";
    page.execute(click, vec![element.to_json().unwrap()]).await.unwrap();
}

pub async fn write(page: &WebDriver, text: &str) {
    let editor = page.find(By::Css(".cm-content")).await.unwrap();
    editor.click().await.unwrap();
    editor.send_keys(Key::Control + "a").await.unwrap();
    editor.send_keys(Key::Delete + "").await.unwrap();
    // As one paste: typing would let the editor close the brackets.
    page.execute("document.execCommand('insertText', false, arguments[0])", vec![serde_json::json!(text)])
        .await
        .unwrap();
}

/// Waits until a script's value is true.
pub async fn until(page: &WebDriver, script: &str) {
    let started = Instant::now();
    let script = format!("return !!({script})");
    loop {
        if page.execute(&script, vec![]).await.is_ok_and(|found| found.json() == true) {
            return;
        }
        if started.elapsed() > Duration::from_secs(20) {
            let shown = page.find(By::Css("body")).await.unwrap().text().await.unwrap();
            panic!("{script} does not become true:\n{shown}");
        }
        tokio::task::yield_now().await;
    }
}

/// A script's value as text.
pub async fn value(page: &WebDriver, script: &str) -> String {
    let found = page.execute(&format!("return String({script})"), vec![]).await.unwrap();
    found.json().as_str().unwrap_or_default().to_string()
}

/// Chooses an option, or writes into a field, as a person's input is seen by the page.
pub async fn fill(page: &WebDriver, selector: &str, text: &str) {
    let script = "const field = document.querySelector(arguments[0]);
        const kind = field instanceof HTMLSelectElement ? HTMLSelectElement : HTMLInputElement;
        Object.getOwnPropertyDescriptor(kind.prototype, 'value').set.call(field, arguments[1]);
        field.dispatchEvent(new Event(kind === HTMLSelectElement ? 'change' : 'input', { bubbles: true }));";
    page.execute(script, vec![serde_json::json!(selector), serde_json::json!(text)]).await.unwrap();
}
