//! Headless Chromium, driven through Debian's chromedriver.

use std::{
    collections::BTreeSet,
    fs,
    net::TcpListener,
    path::Path,
    process::{Child, Command, Stdio},
    time::Duration,
};

use fantoccini::{Client, ClientBuilder, Locator, wd::WebDriverCompatibleCommand};
use serde_json::{Value, json};
use url::Url;

use crate::{PATIENCE, Step, wait_for};

/// A browser with a fresh profile. Ends with its driver when dropped.
pub struct Browser {
    /// The page.
    pub page: Client,
    driver: Child,
    _profile: tempfile::TempDir,
}

impl Browser {
    /// Starts a browser whose window is `width` by `height`; below 500 wide it shows pages as a phone does.
    pub async fn start(width: u32, height: u32) -> Step<Self> {
        let port = TcpListener::bind("127.0.0.1:0")?.local_addr()?.port();
        let driver = Command::new("chromedriver")
            .arg(format!("--port={port}"))
            .stdin(Stdio::null())
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .map_err(|e| format!("chromedriver could not be started ({e}); \"cargo xtask test\" installs it"))?;
        let profile = tempfile::tempdir()?;
        let mut arguments: Vec<String> = [
            "--headless=new",
            "--no-sandbox",
            "--disable-gpu",
            "--disable-quic",
            "--no-first-run",
            "--disable-background-networking",
            "--disable-component-update",
            "--disable-sync",
            "--disable-dev-shm-usage",
            "--hide-scrollbars",
            "--force-color-profile=srgb",
        ]
        .map(str::to_owned)
        .into();
        arguments.push(format!("--user-data-dir={}", profile.path().display()));
        arguments.push(format!("--window-size={width},{height}"));
        let mut chrome = json!({ "args": arguments });
        if width < 500 {
            chrome["mobileEmulation"] = json!({ "deviceMetrics": { "width": width, "height": height, "pixelRatio": 2.0 } });
        }
        let capabilities = json!({ "goog:chromeOptions": chrome, "goog:loggingPrefs": { "browser": "ALL" } })
            .as_object()
            .cloned()
            .unwrap_or_default();
        let address = format!("http://127.0.0.1:{port}");
        let started = wait_for("the browser to start", 30, async || {
            Ok(ClientBuilder::new(hyper_connector()).capabilities(capabilities.clone()).connect(&address).await.ok())
        })
        .await;
        let mut browser = match started {
            Ok(page) => Browser { page, driver, _profile: profile },
            Err(e) => {
                let mut driver = driver;
                let _ = driver.kill();
                let _ = driver.wait();
                return Err(e);
            }
        };
        if width >= 500 {
            browser.resize(width, height).await?;
        }
        Ok(browser)
    }

    /// Gives the page (not the window) this size.
    pub async fn resize(&mut self, width: u32, height: u32) -> Step<()> {
        self.page.set_window_size(width, height).await?;
        let inner = self.page.execute("return [window.innerWidth, window.innerHeight]", vec![]).await?;
        let (w, h) = (inner[0].as_u64().unwrap_or(0) as u32, inner[1].as_u64().unwrap_or(0) as u32);
        self.page.set_window_size(width + (width - w.min(width)), height + (height - h.min(height))).await?;
        Ok(())
    }

    /// Signs somebody in through the page.
    pub async fn sign_in(&self, base: &Url, name: &str, password: &str) -> Step<()> {
        self.page.goto(base.as_str()).await?;
        self.wait("input[name=name]").await?;
        self.page.find(Locator::Css("input[name=name]")).await?.send_keys(name).await?;
        self.page.find(Locator::Css("input[name=password]")).await?.send_keys(password).await?;
        self.page.find(Locator::Css("button[type=submit]")).await?.click().await?;
        self.wait("nav[aria-label=Pages]").await
    }

    /// Waits until something is on the page.
    pub async fn wait(&self, selector: &str) -> Step<()> {
        self.page.wait().at_most(Duration::from_secs(20 * PATIENCE)).for_element(Locator::Css(selector)).await?;
        Ok(())
    }

    /// Waits until the page shows a text.
    pub async fn wait_for_text(&self, text: &str) -> Step<()> {
        wait_for(&format!("the page to show {text:?}"), 20, async || Ok(self.text().await?.contains(text).then_some(()))).await
    }

    /// What the page shows, as text.
    pub async fn text(&self) -> Step<String> {
        let text = self.page.execute("return document.body.innerText", vec![]).await?;
        Ok(text.as_str().unwrap_or_default().to_owned())
    }

    /// Clicks the first button or link with this text that can be clicked; in the dialog, if one is open.
    pub async fn click(&self, text: &str) -> Step<()> {
        let with_text = format!("*[self::button or self::a][not(@disabled)][contains(normalize-space(.), {text:?})]");
        // Of what lies above each other, the uppermost.
        let (dialog, alert) = ("//*[@role='dialog']", "//*[@role='alertdialog']");
        let path =
            format!("{alert}//{with_text} | {dialog}[not({alert})]//{with_text} | //{with_text}[not({dialog} or {alert})]");
        self.page.wait().at_most(Duration::from_secs(20 * PATIENCE)).for_element(Locator::XPath(&path)).await?.click().await?;
        Ok(())
    }

    /// What the page has complained of since this was asked last: errors that a browser writes to its console.
    pub async fn complaints(&self) -> Step<Vec<String>> {
        let told = self.page.issue_cmd(ConsoleLog).await?;
        let lines = told.as_array().cloned().unwrap_or_default();
        let bad = lines.iter().filter(|l| l["level"] == "SEVERE");
        Ok(bad.map(|l| l["message"].as_str().unwrap_or_default().to_owned()).collect())
    }

    /// What keeps people from using the page who see, hear or move otherwise, as axe finds it (WCAG 2.2, levels A and AA): the rule, and where.
    pub async fn barriers(&self) -> Step<Vec<String>> {
        let axe = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../console/node_modules/axe-core/axe.min.js");
        let axe = fs::read_to_string(axe).map_err(|e| format!("axe is not there ({e}); \"cargo xtask test\" installs it"))?;
        self.page.execute(&axe, vec![]).await?;
        let rules = "const done = arguments[0];
            axe.run(document, { runOnly: ['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa', 'wcag22aa', 'best-practice'] })
                .then(r => done(r.violations.flatMap(v => v.nodes.map(n => `${v.id}: ${n.target} ${n.html.slice(0, 160)} (${n.failureSummary})`))),
                      e => done([String(e)]))";
        let found = self.page.execute_async(rules, vec![]).await?;
        let lines = found.as_array().ok_or("axe says nothing")?;
        Ok(lines.iter().map(|l| l.as_str().unwrap_or_default().to_owned()).collect())
    }

    /// Has the browser itself do something, by a word of its developers' protocol.
    pub async fn devtools(&self, command: &str, parameters: Value) -> Step<Value> {
        Ok(self.page.issue_cmd(DevTools { command: command.to_owned(), parameters }).await?)
    }

    /// Bytes in memory of the largest of the processes that draw its pages.
    pub fn memory(&self) -> Step<u64> {
        let mut family = BTreeSet::from([self.driver.id()]);
        let mut most = 0;
        // Children have higher numbers than their parents, unless the numbers began again.
        let mut all: Vec<u32> = fs::read_dir("/proc")?.flatten().filter_map(|e| e.file_name().to_str()?.parse().ok()).collect();
        all.sort_unstable();
        for id in all {
            let Ok(status) = fs::read_to_string(format!("/proc/{id}/status")) else { continue };
            let value =
                |name: &str| status.lines().find_map(|l| l.strip_prefix(name)?.split_whitespace().next()?.parse::<u64>().ok());
            if !value("PPid:").and_then(|p| u32::try_from(p).ok()).is_some_and(|parent| family.contains(&parent)) {
                continue;
            }
            family.insert(id);
            let command = fs::read(format!("/proc/{id}/cmdline")).unwrap_or_default();
            if String::from_utf8_lossy(&command).contains("--type=renderer") {
                most = most.max(value("VmRSS:").unwrap_or_default() * 1024);
            }
        }
        if most == 0 { Err("no process draws its pages".into()) } else { Ok(most) }
    }

    /// A picture of the page as PNG, once its pictures and letters are there.
    pub async fn picture(&self) -> Step<Vec<u8>> {
        let ready = "return document.fonts.status === 'loaded' && [...document.images].filter(i => { const r = i.getBoundingClientRect(); \
                     return r.top < innerHeight && r.bottom > 0 && r.left < innerWidth && r.right > 0 }).every(i => i.complete)";
        wait_for("the page's pictures", 20, async || Ok((self.page.execute(ready, vec![]).await? == true).then_some(()))).await?;
        tokio::time::sleep(Duration::from_millis(900)).await; // Bars and chambers take their widths; nothing tells when.
        Ok(self.page.screenshot().await?)
    }
}

/// A command of the developers' protocol (not part of WebDriver itself either).
#[derive(Debug)]
struct DevTools {
    command: String,
    parameters: Value,
}

impl WebDriverCompatibleCommand for DevTools {
    fn endpoint(&self, base: &Url, session: Option<&str>) -> Result<Url, url::ParseError> {
        base.join(&format!("session/{}/goog/cdp/execute", session.unwrap_or_default()))
    }

    fn method_and_body(&self, _: &Url) -> (reqwest::Method, Option<String>) {
        (reqwest::Method::POST, Some(json!({ "cmd": self.command, "params": self.parameters }).to_string()))
    }
}

/// Asks the driver for what the browser wrote to its console (not part of WebDriver itself; Chromium's driver has it).
#[derive(Debug)]
struct ConsoleLog;

impl WebDriverCompatibleCommand for ConsoleLog {
    fn endpoint(&self, base: &Url, session: Option<&str>) -> Result<Url, url::ParseError> {
        base.join(&format!("session/{}/se/log", session.unwrap_or_default()))
    }

    fn method_and_body(&self, _: &Url) -> (reqwest::Method, Option<String>) {
        (reqwest::Method::POST, Some(json!({ "type": "browser" }).to_string()))
    }
}

fn hyper_connector() -> hyper_util::client::legacy::connect::HttpConnector {
    hyper_util::client::legacy::connect::HttpConnector::new()
}

impl Drop for Browser {
    fn drop(&mut self) {
        // The driver ends its browser when it is told to; killed, it would leave it behind.
        let (page, driver) = (self.page.clone(), &mut self.driver);
        if let Ok(handle) = tokio::runtime::Handle::try_current() {
            tokio::task::block_in_place(|| {
                handle.block_on(async { drop(tokio::time::timeout(Duration::from_secs(5), page.close()).await) })
            });
        }
        let _ = driver.kill();
        let _ = driver.wait();
    }
}
