//! Lines that are too long for the terminal go on below, indented: a terminal would break them in the middle of a word, and a table
//! would be no table any more.

/// The most that a line is indented where it goes on.
const MOST_INDENT: usize = 24;

/// The text with every line in at most `width` columns (20 or more). Colours go on where a line does.
pub(crate) fn folded(text: &str, width: usize) -> String {
    let width = width.max(20);
    let lines: Vec<String> = text.split('\n').map(|line| folded_line(line, width)).collect();
    lines.join("\n")
}

fn folded_line(line: &str, width: usize) -> String {
    if seen(line) <= width {
        return line.to_owned();
    }
    let indent = indent_of(line).min(MOST_INDENT).min(width / 2);
    let mut out = String::new();
    let mut at = 0;
    for (index, word) in line.split(' ').enumerate() {
        let len = seen(word);
        // Blanks at the beginning are the line's own indentation.
        let begins = index > 0 && at > 0 && out.trim_start().is_empty();
        if index > 0 && (begins || at + 1 + len <= width) {
            out.push(' ');
            at += 1;
        } else if index > 0 && len > 0 {
            out.truncate(out.trim_end_matches(' ').len());
            out.push('\n');
            out.push_str(&" ".repeat(indent));
            at = indent;
        }
        at = push(&mut out, word, at, width, indent);
    }
    out
}

/// Adds a word; one that is longer than a line is broken wherever the line ends.
fn push(out: &mut String, word: &str, mut at: usize, width: usize, indent: usize) -> usize {
    let mut escape = false;
    for c in word.chars() {
        if c == '\u{1b}' {
            escape = true;
        }
        if !escape {
            if at == width {
                out.push('\n');
                out.push_str(&" ".repeat(indent));
                at = indent;
            }
            at += 1;
        } else if c == 'm' {
            escape = false;
        }
        out.push(c);
    }
    at
}

/// Returns where a line goes on: below what stands behind its first gap of two blanks, which is where a text begins behind its name; or a little
/// further in than it began.
fn indent_of(line: &str) -> usize {
    let plain: String = strip(line);
    let own = plain.chars().take_while(|c| *c == ' ').count();
    let rest: Vec<char> = plain.chars().skip(own).collect();
    let gap = rest.windows(2).position(|pair| pair == [' ', ' ']);
    let behind = gap.and_then(|gap| rest[gap..].iter().position(|c| *c != ' ').map(|more| own + gap + more));
    behind.filter(|behind| *behind <= MOST_INDENT).unwrap_or(own + 2)
}

fn strip(line: &str) -> String {
    anstream::adapter::strip_str(line).map(str::to_owned).collect()
}

/// Returns how many characters of a text are seen.
fn seen(text: &str) -> usize {
    strip(text).chars().count()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn long_lines_go_on_below_their_text_and_short_ones_stay() {
        let text = "saved     at checkpoint, complete, death, game_over\nshort";
        assert_eq!(
            folded(text, 30),
            "saved     at checkpoint,\n          complete, death,\n          game_over\nshort"
        );
        assert_eq!(folded("    one two three four five six", 20), "    one two three\n      four five six");
    }

    #[test]
    fn colours_take_no_room_and_a_long_word_is_broken() {
        let red = "\u{1b}[31mred and more red\u{1b}[0m";
        assert_eq!(folded(red, 20), red);
        assert_eq!(
            folded(&"x".repeat(45), 20),
            format!("{}\n  {}\n  {}", "x".repeat(20), "x".repeat(18), "x".repeat(7))
        );
    }
}
