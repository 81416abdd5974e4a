//! A terminal with somebody at it.

use std::{
    fs::File,
    io::{Read, Write},
    process::{Child, Stdio},
    sync::mpsc,
};

use nix::pty::{Winsize, openpty};

use crate::harness::{PATIENCE, Place, wait};

/// A desk at a terminal of its own.
pub(crate) struct Terminal {
    child: Child,
    keyboard: File,
    screen: mpsc::Receiver<String>,
    shown: String,
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
        // What the command and the other end hold is the child's alone from here on: its end is the end of the screen.
        drop((command, ends.slave));
        let keyboard = File::from(ends.master);
        let mut shown = keyboard.try_clone().unwrap();
        let (sender, screen) = mpsc::channel();
        std::thread::spawn(move || {
            let mut bytes = [0; 256];
            while let Ok(count @ 1..) = shown.read(&mut bytes)
                && sender.send(String::from_utf8_lossy(&bytes[..count]).into_owned()).is_ok()
            {}
        });
        Self { child, keyboard, screen, shown: String::new() }
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
            match self.screen.recv_timeout(PATIENCE) {
                Ok(more) => self.shown.push_str(&more),
                Err(error) => panic!("{error}: {wanted:?} does not come after {:?}", self.shown),
            }
        }
    }

    /// Waits for its end, which is a good one.
    #[track_caller]
    pub(crate) fn ends_well(&mut self) {
        let ended = wait("the command ends", || self.child.try_wait().unwrap());
        let last: String = self.shown.drain(..).chain(self.screen.iter().collect::<String>().chars()).collect();
        assert!(ended.success(), "{ended}: {last}");
    }
}

impl Drop for Terminal {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}
