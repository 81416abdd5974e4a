//! The console in a browser.

mod bridges;
mod design;
mod messages;
mod overview;
mod people;
mod sessions;
mod traffic;
mod watching;

use std::{
    io::{BufRead, BufReader},
    os::unix::process::CommandExt,
    process::{Child, Command, Stdio},
    time::Duration,
};

use nix::{
    sys::signal::{Signal, killpg},
    unistd::Pid,
};
use tempfile::TempDir;
use thirtyfour::{
    By, ChromiumLikeCapabilities, DesiredCapabilities, LoggingPrefsLogLevel, WebDriver, prelude::ElementQueryable,
};

use crate::harness::{PATIENCE, Service};

/// Chromium's driver in a process group of its own, which ends with it.
struct Driver {
    child: Child,
    port: u16,
    profile: TempDir,
}

impl Driver {
    fn start() -> Self {
        let mut child = Command::new("chromedriver")
            .arg("--port=0")
            .stdin(Stdio::null())
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .process_group(0)
            .spawn()
            .expect("chromedriver is installed: `make tools`");
        let mut lines = BufReader::new(child.stdout.take().unwrap()).lines();
        let port = lines
            .find_map(|line| {
                line.ok()?.split("on port ").nth(1)?.trim_end_matches('.').parse().ok().filter(|port| *port != 0)
            })
            .expect("chromedriver says its port");
        // Its output must be read on, or it stops when the pipe is full.
        std::thread::spawn(move || lines.for_each(drop));
        Self { child, port, profile: TempDir::new().unwrap() }
    }

    /// Opens a browser. It ends with this driver, so the session need not be closed for itself.
    async fn browse(&self) -> Page {
        let mut capabilities = DesiredCapabilities::chrome();
        let profile = format!("--user-data-dir={}", self.profile.path().display());
        for argument in [
            "--headless",
            "--no-sandbox",
            "--disable-gpu",
            "--disable-quic",
            "--disable-dev-shm-usage",
            "--no-first-run",
            "--disable-background-networking",
            "--disable-component-update",
            "--disable-sync",
            "--window-size=1280,943",
            &profile,
        ] {
            capabilities.add_arg(argument).unwrap();
        }
        capabilities.set_logging_prefs("browser", LoggingPrefsLogLevel::All).unwrap();
        let driver = WebDriver::new(format!("http://127.0.0.1:{}", self.port), capabilities).await.unwrap();
        driver.clone().leak().unwrap();
        Page { driver }
    }
}

impl Drop for Driver {
    fn drop(&mut self) {
        let _ = killpg(Pid::from_raw(self.child.id().try_into().unwrap()), Signal::SIGKILL);
        let _ = self.child.wait();
    }
}

/// A page and what can be done on it.
struct Page {
    driver: WebDriver,
}

impl Page {
    async fn find(&self, selector: &str) -> thirtyfour::WebElement {
        self.driver.query(By::Css(selector)).wait(PATIENCE, Duration::from_millis(50)).first().await.unwrap()
    }

    async fn click(&self, selector: &str) {
        self.click_on(By::Css(selector)).await;
    }

    async fn click_text(&self, text: &str) {
        self.click_on(By::XPath(format!("//button[normalize-space()='{text}']"))).await;
    }

    /// Clicks as a person does: again, if the page has just put another element there, has moved it away or does not
    /// take clicks on it yet. A click that missed is no error of the driver's, so the element says whether it came;
    /// only the choices of a list are told of none.
    async fn click_on(&self, by: By) {
        const LISTEN: &str = "window.clicked = arguments[0].tagName === 'OPTION'; \
            arguments[0].addEventListener('click', () => { window.clicked = true }, { capture: true, once: true })";
        let began = std::time::Instant::now();
        loop {
            let query = self.driver.query(by.clone()).wait(PATIENCE, Duration::from_millis(50));
            let element = query.and_displayed().first().await.unwrap();
            match self.click_once(LISTEN, &element).await {
                Ok(true) => return,
                Ok(false) => assert!(began.elapsed() < PATIENCE, "{by:?} takes no click"),
                Err(error) => assert!(began.elapsed() < PATIENCE, "{by:?} can't be clicked: {error}"),
            }
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
    }

    /// Whether the click came to the element. A page that another one has replaced was left by it.
    async fn click_once(
        &self,
        listen: &str,
        element: &thirtyfour::WebElement,
    ) -> Result<bool, thirtyfour::error::WebDriverError> {
        self.driver.execute(listen, vec![element.to_json()?]).await?;
        element.click().await?;
        self.driver.execute("return window.clicked ?? true", vec![]).await?.convert()
    }

    /// Waits until an element's text is as wanted.
    async fn wait_for(&self, selector: &str, wanted: impl Fn(&str) -> bool) -> String {
        let began = std::time::Instant::now();
        loop {
            let text = self.text(selector).await;
            if wanted(&text) {
                return text;
            }
            assert!(began.elapsed() < PATIENCE, "{selector} stays {text:?}");
            tokio::time::sleep(Duration::from_millis(100)).await;
        }
    }

    /// The text now, empty if the element is not there.
    async fn text(&self, selector: &str) -> String {
        let script = format!("return document.querySelector({selector:?})?.innerText ?? ''");
        self.driver.execute(script, vec![]).await.unwrap().convert().unwrap()
    }

    async fn sign_in(&self, service: &Service<'_>) {
        self.driver.goto(&service.http).await.unwrap();
        self.find("#secret").await.send_keys(service.secret()).await.unwrap();
        self.click("button[type=submit]").await;
        self.find("section[aria-label=Events]").await;
    }

    async fn type_into(&self, selector: &str, text: &str) {
        let field = self.find(selector).await;
        field.clear().await.unwrap();
        field.send_keys(text).await.unwrap();
    }

    fn headline(name: &str) -> String {
        format!("[data-headline='{name}'] p")
    }
}
