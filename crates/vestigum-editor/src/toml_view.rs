//! A spec as it stands in an editor, broken or not: where its headers, keys and texts are.

use vestigum_spec::diagnostic::SourceSpan;

/// A name on the way to a value, and where it stands.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Segment {
    pub name: String,
    pub span: SourceSpan,
}

/// A piece of a spec.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Piece {
    /// `[field.xp]` or `[[source]]`, with the path in it.
    Header { path: Vec<Segment>, several: bool },
    /// A key: the path up to and with it. The last `own` segments stand here.
    Key { path: Vec<Segment>, own: usize },
    /// A text: the path of the key whose value it is (or is in), and what stands between its quotes.
    Text { path: Vec<Segment>, span: SourceSpan },
}

/// Describes where the cursor is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Spot {
    /// In a header, behind its bracket; what was written of it.
    Header(String),
    /// Says where a key may stand: the path of the table it would be in, and what was written of it.
    Key(Vec<String>, String),
    /// Behind the `=` of a key.
    Value(Vec<String>),
    /// In a text: the path of its key, and what was written of the text.
    Text(Vec<String>, String),
    /// In a comment, or where nothing can be said.
    Nothing,
}

/// All pieces of a text.
pub(crate) fn pieces(text: &str) -> Vec<Piece> {
    let mut scanner = Scanner::new(text);
    scanner.run();
    scanner.pieces
}

/// Returns whether a document has a table of that name, in whatever way it is written. It is read no further than to there.
pub(crate) fn has_table(text: &str, name: &str) -> bool {
    let is_it = |path: &[Segment]| path.first().is_some_and(|segment| segment.name == name);
    let mut scanner = Scanner::new(text);
    loop {
        let goes_on = scanner.step();
        let found = scanner.pieces.drain(..).any(|piece| match piece {
            Piece::Header { path, several } => !several && is_it(&path),
            Piece::Key { path, own } => path.len() == own && is_it(&path),
            Piece::Text { .. } => false,
        });
        if found || !goes_on {
            return found;
        }
    }
}

/// Returns where a byte of the text is. Only what stands before it counts.
pub(crate) fn spot(text: &str, offset: usize) -> Spot {
    let mut scanner = Scanner::new(&text[..offset]);
    scanner.run();
    let names: Vec<String> = scanner.path().iter().map(|segment| segment.name.clone()).collect();
    match scanner.end {
        End::Header(written) => Spot::Header(written),
        End::Text(written) => Spot::Text(names, written),
        End::Comment => Spot::Nothing,
        End::Key(written) => Spot::Key(names, written),
        End::Value => Spot::Value(names),
        End::Between => Spot::Nothing,
    }
}

/// Describes how the text ends.
enum End {
    Header(String),
    Key(String),
    Value,
    Text(String),
    Comment,
    Between,
}

/// Deeper than this no key means anything: each piece has its whole path, and thousands of tables in one another would make that square.
const DEEPEST: usize = 24;

/// Describes what is open around a value.
enum Open {
    List,
    /// A table in braces, with how long the path is inside.
    Table(usize),
}

struct Scanner<'t> {
    text: &'t str,
    at: usize,
    pieces: Vec<Piece>,
    /// The path of the last header.
    header: Vec<Segment>,
    /// The keys on the way, inside it.
    keys: Vec<Segment>,
    open: Vec<Open>,
    end: End,
}

impl<'t> Scanner<'t> {
    fn new(text: &'t str) -> Scanner<'t> {
        Scanner {
            text,
            // Some editors begin a file with a mark of its byte order.
            at: text.len() - text.trim_start_matches('\u{feff}').len(),
            pieces: Vec::new(),
            header: Vec::new(),
            keys: Vec::new(),
            open: Vec::new(),
            end: End::Key(String::new()),
        }
    }

    fn path(&self) -> Vec<Segment> {
        self.header.iter().chain(&self.keys).cloned().collect()
    }

    fn peek(&self) -> Option<char> {
        self.text[self.at..].chars().next()
    }

    fn blanks(&mut self, also_lines: bool) {
        while let Some(c) = self.peek().filter(|c| c.is_whitespace() && (also_lines || *c != '\n')) {
            self.at += c.len_utf8();
        }
    }

    /// Reads line by line. What is not understood is passed over to the end of its line.
    fn run(&mut self) {
        while self.step() {}
    }

    /// Reads what begins on a line. Says whether there is more.
    fn step(&mut self) -> bool {
        self.keys.clear();
        self.open.clear();
        self.end = End::Key(String::new());
        self.blanks(true);
        match self.peek() {
            None => return false,
            Some('#') => self.comment(),
            Some('[') => self.header(),
            Some(_) => {
                if !self.key() {
                    return false;
                }
                self.values();
            }
        }
        self.at < self.text.len()
    }

    fn comment(&mut self) {
        self.end = End::Comment;
        self.skip_line();
    }

    fn skip_line(&mut self) {
        self.at += self.text[self.at..].find('\n').unwrap_or(self.text.len() - self.at);
    }

    fn header(&mut self) {
        let several = self.text[self.at..].starts_with("[[");
        self.at += if several { 2 } else { 1 };
        let begin = self.at;
        let len = self.text[begin..].find([']', '\n']).unwrap_or(self.text.len() - begin);
        self.end = End::Header(self.text[begin..begin + len].to_owned());
        self.header = segments(&self.text[begin..begin + len], begin);
        self.at = begin + len;
        if self.peek() == Some(']') {
            self.end = End::Between;
        }
        let path = self.header.clone();
        self.pieces.push(Piece::Header { path, several });
        // A comment may stand behind it.
        match self.text[self.at..].find(['#', '\n']) {
            Some(to) if self.text[self.at + to..].starts_with('#') => {
                self.at += to;
                self.comment();
            }
            _ => self.skip_line(),
        }
    }

    /// Reads a key and its `=`. Says whether there was one; otherwise the line is passed over, or the text ends in the key.
    fn key(&mut self) -> bool {
        let begin = self.at;
        let stop = |c: char| matches!(c, '=' | '\n' | '#' | '}' | ',');
        let mut len = 0;
        let mut quote = None;
        for (at, c) in self.text[begin..].char_indices() {
            match quote {
                Some(open) if c == open => quote = None,
                None if c == '"' || c == '\'' => quote = Some(c),
                None if stop(c) => break,
                Some(_) if c == '\n' => break,
                _ => {}
            }
            len = at + c.len_utf8();
        }
        let written = &self.text[begin..begin + len];
        self.at = begin + len;
        match self.peek() {
            Some('=') => {
                let own = segments(written, begin);
                self.keys.extend(own.iter().cloned());
                if self.keys.len() <= DEEPEST {
                    self.pieces.push(Piece::Key { path: self.path(), own: own.len() });
                }
                self.at += 1;
                self.end = End::Value;
                true
            }
            None => {
                let dotted = segments(written, begin);
                let last = if written.trim_end().ends_with('.') || dotted.is_empty() {
                    self.keys.extend(dotted);
                    String::new()
                } else {
                    let (last, before) = dotted
                        .split_last()
                        .map(|(last, before)| (last.name.clone(), before.to_vec()))
                        .unwrap_or_default();
                    self.keys.extend(before);
                    last
                };
                self.end = End::Key(last);
                false
            }
            Some(_) => {
                if self.open.is_empty() {
                    self.skip_line();
                }
                true
            }
        }
    }

    /// Reads a value up to its end: the end of the line, or of what is open.
    fn values(&mut self) {
        loop {
            self.blanks(!self.open.is_empty());
            let Some(c) = self.peek() else { return };
            match c {
                '\n' => return,
                '#' => {
                    self.comment();
                    if self.open.is_empty() {
                        return;
                    }
                    continue;
                }
                '"' | '\'' => self.quoted(c),
                '[' => {
                    self.open.push(Open::List);
                    self.at += 1;
                    self.end = End::Value;
                }
                '{' => {
                    self.open.push(Open::Table(self.keys.len()));
                    self.at += 1;
                    if !self.next_key() {
                        return;
                    }
                }
                ']' => {
                    self.at += 1;
                    if matches!(self.open.last(), Some(Open::List)) {
                        self.open.pop();
                    }
                    self.end = End::Between;
                }
                '}' => {
                    self.at += 1;
                    if let Some(Open::Table(len)) = self.open.last() {
                        self.keys.truncate(*len);
                        self.open.pop();
                    }
                    self.end = End::Between;
                }
                ',' => {
                    self.at += 1;
                    self.end = End::Value;
                    if let Some(Open::Table(len)) = self.open.last() {
                        self.keys.truncate(*len);
                        if !self.next_key() {
                            return;
                        }
                    }
                }
                c => {
                    self.at += c.len_utf8();
                    self.end = End::Between;
                    // A line that begins as a header or a key does has come loose from what was open before it.
                    if self.is_loose() {
                        return;
                    }
                }
            }
        }
    }

    /// Returns whether what follows belongs to nothing that is open: a header at the beginning of a line.
    fn is_loose(&self) -> bool {
        let rest = &self.text[self.at..];
        rest.starts_with("\n[") && rest[2..].starts_with(|c: char| c.is_alphabetic() || c == '[')
    }

    /// Reads the next key in braces. Says whether the value behind it can be read.
    fn next_key(&mut self) -> bool {
        self.end = End::Key(String::new());
        self.blanks(true);
        match self.peek() {
            None => false,
            Some('}' | ',' | '#') => true,
            Some(_) => self.key(),
        }
    }

    fn quoted(&mut self, quote: char) {
        let triple: String = [quote; 3].iter().collect();
        let long = self.text[self.at..].starts_with(&triple);
        let mark = if long { 3 } else { 1 };
        let begin = self.at + mark;
        let mut at = begin.min(self.text.len());
        let mut closed = false;
        while let Some(c) = self.text[at..].chars().next() {
            if c == '\\' && quote == '"' {
                at += 1 + self.text[at + 1..].chars().next().map_or(0, char::len_utf8);
                continue;
            }
            let ends = if long { self.text[at..].starts_with(&triple) } else { c == quote };
            if ends {
                closed = true;
                break;
            }
            if c == '\n' && !long {
                break;
            }
            at += c.len_utf8();
        }
        let span = SourceSpan::new(begin.min(self.text.len()), at);
        self.end = if closed || at < self.text.len() {
            End::Between
        } else {
            End::Text(self.text[span.start..span.end].to_owned())
        };
        if self.keys.len() <= DEEPEST {
            self.pieces.push(Piece::Text { path: self.path(), span });
        }
        self.at = if closed { at + mark } else { at };
    }
}

/// The names of a dotted path, without their quotes.
fn segments(text: &str, start: usize) -> Vec<Segment> {
    let mut out = Vec::new();
    let mut at = 0;
    for part in text.split('.') {
        let trimmed = part.trim();
        let inner = trimmed.trim_matches(['"', '\'']);
        if !inner.is_empty() {
            let begin = start
                + at
                + (part.len() - part.trim_start().len())
                + (trimmed.len() - trimmed.trim_start_matches(['"', '\'']).len());
            out.push(Segment { name: inner.to_owned(), span: SourceSpan::new(begin, begin + inner.len()) });
        }
        at += part.len() + 1;
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Each of 5,000 tables in one another had the path of all around it, and the editor stood still for seconds.
    #[test]
    fn tables_in_one_another_are_looked_at_as_deep_as_they_mean_anything() {
        for end in ["1".to_owned() + &" }".repeat(5_000), String::new()] {
            let text = format!("[field.a]\ntype = {}{end}\n[field.b]\n", "{ a = ".repeat(5_000));
            let pieces = pieces(&text);
            let segments = pieces.iter().map(|piece| match piece {
                Piece::Header { path, .. } | Piece::Key { path, .. } | Piece::Text { path, .. } => path.len(),
            });
            assert!(segments.sum::<usize>() < 1_000, "{}", pieces.len());
        }
    }
}
