//! A terminal with somebody at it.

use std::{
    fs::File,
    io::{Read, Write},
    num::NonZeroU16,
    path::PathBuf,
    process::{Child, Stdio},
    sync::mpsc,
};

use nix::{
    pty::{Winsize, openpty},
    unistd::ttyname,
};

use crate::harness::{PATIENCE, Place, wait};

fn nonzero(cells: u16) -> NonZeroU16 {
    NonZeroU16::new(cells).unwrap()
}

/// A desk at a terminal of its own.
pub(crate) struct Terminal {
    child: Child,
    /// The device that the command writes to.
    device: PathBuf,
    keyboard: File,
    written: mpsc::Receiver<Vec<u8>>,
    /// What was written and not yet waited for.
    shown: String,
    /// What somebody sees.
    screen: vt100::Parser,
}

impl Terminal {
    pub(crate) fn open(place: &Place, arguments: &[&str]) -> Self {
        let size = Winsize { ws_row: 24, ws_col: 80, ws_xpixel: 0, ws_ypixel: 0 };
        let ends = openpty(&size, None).unwrap();
        let line = || Stdio::from(ends.slave.try_clone().unwrap());
        // In a session of its own, so that what is typed can interrupt it.
        let mut command = std::process::Command::new("setsid");
        command.args(["--ctty", "--wait", env!("CARGO_BIN_EXE_moorfall")]).args(arguments);
        command.env("XDG_STATE_HOME", place.path().join("state")).env("TERM", "xterm");
        let child = command.stdin(line()).stdout(line()).stderr(line()).spawn().unwrap();
        let device = ttyname(&ends.slave).unwrap();
        // What the command and the other end hold is the child's alone from here on: its end is the end of the screen.
        drop((command, ends.slave));
        let keyboard = File::from(ends.master);
        let mut shown = keyboard.try_clone().unwrap();
        let (sender, written) = mpsc::channel();
        std::thread::spawn(move || {
            let mut bytes = [0; 256];
            while let Ok(count @ 1..) = shown.read(&mut bytes)
                && sender.send(bytes[..count].to_vec()).is_ok()
            {}
        });
        Self {
            child,
            device,
            keyboard,
            written,
            shown: String::new(),
            screen: vt100::Parser::new(nonzero(24), nonzero(80), 0),
        }
    }

    /// As if the window were made larger or smaller.
    pub(crate) fn resize(&mut self, columns: u16, rows: u16) {
        let asked = [columns, rows].map(|cells| cells.to_string());
        let mut set = std::process::Command::new("stty");
        let set = set.arg("-F").arg(&self.device).args(["cols", &asked[0], "rows", &asked[1]]);
        assert!(set.status().unwrap().success());
        self.screen.screen_mut().set_size(nonzero(rows), nonzero(columns));
    }

    pub(crate) fn press(&mut self, keys: &str) {
        self.keyboard.write_all(keys.as_bytes()).unwrap();
        self.keyboard.flush().unwrap();
    }

    /// Waits until this is shown after what was waited for before, and gives all up to it.
    #[track_caller]
    pub(crate) fn until(&mut self, wanted: &str) -> String {
        loop {
            if let Some(at) = self.shown.find(wanted) {
                let rest = self.shown.split_off(at + wanted.len());
                return std::mem::replace(&mut self.shown, rest);
            }
            match self.written.recv_timeout(PATIENCE) {
                Ok(more) => self.take(&more),
                Err(error) => panic!("{error}: {wanted:?} does not come after {:?}", self.shown),
            }
        }
    }

    fn take(&mut self, written: &[u8]) {
        self.screen.process(written);
        self.shown.push_str(&String::from_utf8_lossy(written));
    }

    /// Waits until the screen is as wanted, and gives it.
    #[track_caller]
    pub(crate) fn until_seen(&mut self, wanted: impl Fn(&str) -> bool) -> String {
        loop {
            let seen = self.screen.screen().contents();
            if wanted(&seen) {
                return seen;
            }
            match self.written.recv_timeout(PATIENCE) {
                Ok(more) => self.take(&more),
                Err(error) => panic!("{error}: the screen stays\n{seen}"),
            }
        }
    }

    /// Waits for its end, which is a good one.
    #[track_caller]
    pub(crate) fn ends_well(&mut self) {
        let ended = wait("the command ends", || self.child.try_wait().unwrap());
        self.written.iter().for_each(|written| self.shown.push_str(&String::from_utf8_lossy(&written)));
        let last = &self.shown;
        assert!(ended.success(), "{ended}: {last}");
    }
}

impl Drop for Terminal {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}
