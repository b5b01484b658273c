//! Messages on standard input and output. A length that no message has ends the conversation; so does anything else that is not the frame of a message's
//! heading, as nobody could say where the next one begins.

use std::io::{self, BufRead, Read, Write};
use std::thread::{self, JoinHandle};

use crossbeam_channel::bounded;
use lsp_server::{Connection, Message};

/// A longer message is refused: documents are sent whole, and are not as long as that.
const MAX_BYTES: usize = 64 << 20;
/// The most bytes of one line of a heading.
const MAX_LINE: u64 = 4096;

/// Connects the process's standard input and output. The thread writes, and ends when nothing can be sent any more.
pub(super) fn connect() -> (Connection, JoinHandle<io::Result<()>>) {
    let (heard, receiver) = bounded::<Message>(0);
    let (sender, to_say) = bounded::<Message>(0);
    // It may wait for the editor when the process ends; nobody waits for it.
    thread::spawn(move || {
        let mut input = io::stdin().lock();
        while let Ok(Some(body)) = body(&mut input) {
            // What is in the frame of a message and is none is passed over.
            let Ok(message) = serde_json::from_slice::<Message>(&body) else { continue };
            let ends = matches!(&message, Message::Notification(told) if told.method == "exit");
            if heard.send(message).is_err() || ends {
                return;
            }
        }
    });
    let writer = thread::spawn(move || {
        let mut output = io::stdout().lock();
        for message in to_say {
            message.write(&mut output)?;
        }
        output.flush()
    });
    (Connection { sender, receiver }, writer)
}

/// The body of the next message; none if there is no other, or if it cannot be one.
fn body(input: &mut impl BufRead) -> io::Result<Option<Vec<u8>>> {
    let mut length = None;
    loop {
        let mut line = String::new();
        input.by_ref().take(MAX_LINE).read_line(&mut line)?;
        if !line.ends_with('\n') {
            return Ok(None);
        }
        let line = line.trim_end();
        if line.is_empty() {
            break;
        }
        let Some((name, value)) = line.split_once(':') else { return Ok(None) };
        if name.eq_ignore_ascii_case("content-length") {
            length = value.trim().parse::<usize>().ok().filter(|length| *length <= MAX_BYTES);
        }
    }
    let Some(length) = length else { return Ok(None) };
    let mut body = Vec::new();
    let read = input.by_ref().take(length as u64).read_to_end(&mut body)?;
    Ok((read == length).then_some(body))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn all(text: &str) -> Vec<String> {
        let mut input = text.as_bytes();
        let bodies = std::iter::from_fn(|| body(&mut input).ok().flatten());
        bodies.map(|body| String::from_utf8(body).unwrap()).collect()
    }

    #[test]
    fn a_message_has_a_heading_and_a_length_that_can_be() {
        assert_eq!(all("Content-Length: 2\r\n\r\n{}content-length:3\r\nContent-Type: x\r\n\r\n[1]"), ["{}", "[1]"]);
        for broken in [
            "garbage",
            "garbage\n\n{}",
            "Content-Length: 99999999999\r\n\r\n{}",
            "Content-Length: -1\r\n\r\n{}",
            "Content-Length: 5\r\n\r\n{}",
            "\r\n",
        ] {
            assert_eq!(all(broken), Vec::<String>::new(), "{broken}");
        }
        assert_eq!(all(&"x".repeat(1 << 20)), Vec::<String>::new());
    }
}
