//! Messages on standard input and output. A length that no message has ends the conversation; so does anything else that is not the frame of a message's
//! heading, as nobody could say where the next one begins.

use std::io::{self, BufRead, Read, Write};
use std::thread::{self, JoinHandle};

use crossbeam_channel::{Receiver, bounded, never, select};
use lsp_server::{Connection, ErrorCode, Message};
use serde_json::json;

/// A longer message is refused: documents are sent whole, and are not as long as that.
const MAX_BYTES: usize = 64 << 20;
/// The most bytes of one line of a heading.
const MAX_LINE: u64 = 4096;

/// The most messages that are read ahead: what an editor sends for a few seconds of typing.
const AHEAD: usize = 256;

/// Connects the process's standard input and output. The thread writes, and ends when nothing can be sent any more.
pub(super) fn connect() -> (Connection, JoinHandle<io::Result<()>>) {
    let (heard, receiver) = bounded::<Message>(AHEAD);
    let (sender, to_say) = bounded::<Message>(0);
    let (malformed, to_refuse) = bounded::<String>(0);
    // It may wait for the editor when the process ends; nobody waits for it.
    thread::spawn(move || {
        let mut input = io::stdin().lock();
        while let Ok(Some(body)) = body(&mut input) {
            let message = match serde_json::from_slice::<Message>(&body) {
                Ok(message) => message,
                Err(error) => {
                    if malformed.send(error.to_string()).is_err() {
                        return;
                    }
                    continue;
                }
            };
            let ends = matches!(&message, Message::Notification(told) if told.method == "exit");
            if heard.send(message).is_err() || ends {
                return;
            }
        }
    });
    let writer = thread::spawn(move || {
        let mut output = io::stdout().lock();
        say(&mut output, &to_say, &to_refuse)?;
        output.flush()
    });
    (Connection { sender, receiver }, writer)
}

/// Writes what is to be said until nothing can be said any more.
fn say(output: &mut impl Write, to_say: &Receiver<Message>, to_refuse: &Receiver<String>) -> io::Result<()> {
    let none = never();
    let mut to_refuse = to_refuse;
    loop {
        let refused = select! {
            recv(to_say) -> message => match message {
                Ok(message) => {
                    message.write(output)?;
                    continue;
                }
                Err(_) => return Ok(()),
            },
            recv(to_refuse) -> refused => refused,
        };
        match refused {
            Ok(why) => refuse(output, &why)?,
            Err(_) => to_refuse = &none,
        }
    }
}

/// Answers what is not a message: nobody knows its id, so the answer has none.
fn refuse(output: &mut impl Write, why: &str) -> io::Result<()> {
    let error = json!({ "code": ErrorCode::ParseError as i32, "message": why });
    let body = json!({ "jsonrpc": "2.0", "id": null, "error": error }).to_string();
    write!(output, "Content-Length: {}\r\n\r\n{body}", body.len())?;
    output.flush()
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
