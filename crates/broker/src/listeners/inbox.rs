//! What has arrived from one client and is not handled yet.

use std::{
    cell::RefCell,
    io,
    task::{Context, Poll},
};

use bytes::BytesMut;

use crate::listeners::stream::Stream;

/// The least and the most that is read at a time, bytes.
const READ: (usize, usize) = (2 * 1024, 64 * 1024);

/// The beginning of a packet up to this size is copied to where the rest is read, bytes.
const BEGUN: usize = 8 * 1024;

/// As long as the thread's buffer has room for so many bytes, they are read into it.
const ROOM: usize = 16 * 1024;

thread_local! {
    /// Read into in turn for all connections that a thread serves: what they send is handled at once, so that its memory is
    /// free for the next one, and warm.
    static SHARED: RefCell<BytesMut> = RefCell::new(BytesMut::new());
}

/// Bytes from one client. While there are none it holds no memory.
#[derive(Debug, Default)]
pub struct Inbox {
    /// Those that are not handled.
    pub bytes: BytesMut,
    /// Whether they are part of the thread's buffer.
    is_borrowed: bool,
}

impl Inbox {
    /// Reads what has arrived: gives how many bytes, 0 at the end of the stream. What is not handled soon must not borrow: a
    /// few bytes may keep a whole buffer of the thread's alive.
    pub fn poll_fill(
        &mut self,
        stream: &mut Stream,
        context: &mut Context<'_>,
        may_borrow: bool,
    ) -> Poll<io::Result<usize>> {
        if !may_borrow || self.bytes.len() > BEGUN {
            let size = self.bytes.len().clamp(READ.0, READ.1);
            return stream.poll_read(context, &mut self.bytes, size);
        }
        SHARED.with_borrow_mut(|shared| {
            let begun = self.bytes.len();
            let wanted = if shared.capacity() < begun + ROOM { READ.1 } else { shared.capacity() };
            shared.reserve(wanted);
            // The beginning of a packet goes before the rest of it.
            shared.extend_from_slice(&self.bytes);
            let read = stream.poll_read(context, shared, wanted - begun);
            if !matches!(read, Poll::Ready(Ok(count)) if count > 0) {
                shared.truncate(0);
                return read;
            }
            self.bytes = shared.split();
            self.is_borrowed = true;
            read
        })
    }

    /// What could be handled was: what is left waits for more in memory of its own.
    pub fn settle(&mut self) {
        if self.bytes.is_empty() {
            self.bytes = BytesMut::new();
        } else if self.is_borrowed {
            self.bytes = BytesMut::from(&self.bytes[..]);
        }
        self.is_borrowed = false;
    }
}
