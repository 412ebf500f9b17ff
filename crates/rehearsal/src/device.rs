//! One device, driven through the client program.

use std::{
    path::{Path, PathBuf},
    process::{Child, Command, Stdio},
};

use serde_json::Value;

use crate::{Step, program};

/// A device with its own folder.
#[derive(Clone, Debug)]
pub struct Device {
    folder: PathBuf,
}

/// What a command said.
#[derive(Clone, Debug)]
pub struct Said {
    /// Exit code.
    pub code: i32,
    /// Standard output.
    pub out: String,
    /// Standard error.
    pub err: String,
}

impl Device {
    /// A device that keeps its things in `folder`.
    pub fn new(folder: &Path) -> Self {
        Device { folder: folder.to_owned() }
    }

    /// The device's own folder.
    pub fn folder(&self) -> &Path {
        &self.folder
    }

    fn command(&self, arguments: &[&str]) -> Step<Command> {
        let mut command = Command::new(program("ypogeion")?);
        command.env("YPOGEION_DEVICE", &self.folder).args(arguments).stdin(Stdio::null());
        Ok(command)
    }

    /// Runs the client and waits for it.
    pub async fn run(&self, arguments: &[&str]) -> Step<Said> {
        let mut command = self.command(arguments)?;
        let output = tokio::task::spawn_blocking(move || command.output()).await??;
        Ok(Said {
            code: output.status.code().unwrap_or(-1),
            out: String::from_utf8_lossy(&output.stdout).into_owned(),
            err: String::from_utf8_lossy(&output.stderr).into_owned(),
        })
    }

    /// Starts the client and does not wait.
    pub fn spawn(&self, arguments: &[&str]) -> Step<Child> {
        Ok(self.command(arguments)?.stdout(Stdio::null()).stderr(Stdio::null()).spawn()?)
    }

    /// Runs the client, expects it to be done, and takes its JSON.
    pub async fn json(&self, arguments: &[&str]) -> Step<Value> {
        let said = self.run(&[arguments, &["--json"]].concat()).await?;
        if said.code > 1 {
            return Err(format!("ypogeion {}: exit code {}: {}", arguments.join(" "), said.code, said.err).into());
        }
        Ok(serde_json::from_str(&said.out)?)
    }

    /// Pairs the device and names its sources.
    pub async fn pair(&self, address: &str, name: &str, kind: &str, sources: &[(&str, &Path)]) -> Step<()> {
        self.json(&["pair", address, "--name", name, "--kind", kind]).await?;
        for (source, folder) in sources {
            let folder = folder.to_str().ok_or("a path of the rehearsal is text")?;
            self.json(&["sources", "add", folder, "--name", source]).await?;
        }
        Ok(())
    }
}
