//! What a sync remembers, as bytes: one line for each thing, so that any tool can show it.

use vestigum_core::Image;
use vestigum_core::merging::report::Side;

/// The first word of a record, and the number of its form.
const HEAD: &str = "vestigum sync 1";

/// The word where neither place has the save yet.
const NEITHER: &str = "neither";

/// What a sync remembers of one player.
#[derive(Debug, Default, PartialEq)]
pub(super) struct Record {
    /// The last save that both places had.
    pub agreed: Option<Image>,
    /// What a sync was about to do.
    pub pending: Option<Pending>,
}

/// What a sync was about to do: one save was to become the newest in both places.
#[derive(Debug, PartialEq)]
pub(super) struct Pending {
    /// That save.
    pub result: Image,
    /// The save that was there.
    pub of_there: Option<Image>,
    /// The newest generation here.
    pub here: u64,
    /// The newest generation there.
    pub there: u64,
    /// The place that has that save already, if one has.
    pub has: Option<Side>,
}

impl Record {
    pub(super) fn bytes(&self) -> Vec<u8> {
        let mut lines = Vec::new();
        let mut line = |word: &str, image: &Image| {
            lines.extend_from_slice(word.as_bytes());
            lines.push(b' ');
            // JSON has no line breaks but those that a tool puts in.
            lines.extend_from_slice(&image.to_json());
            lines.push(b'\n');
        };
        if let Some(agreed) = &self.agreed {
            line("agreed", agreed);
        }
        if let Some(pending) = &self.pending {
            line("result", &pending.result);
            if let Some(image) = &pending.of_there {
                line("there", image);
            }
            let has = pending.has.map_or(NEITHER, Side::word);
            lines.extend_from_slice(format!("from {} {} {has}\n", pending.here, pending.there).as_bytes());
        }
        let check = blake3::hash(&lines).to_hex();
        [format!("{HEAD} {check}\n").as_bytes(), &lines].concat()
    }

    pub(super) fn read(bytes: &[u8]) -> Result<Record, String> {
        let text = std::str::from_utf8(bytes).map_err(|_| "it is no text".to_owned())?;
        let (head, lines) = text.split_once('\n').ok_or("it has no first line")?;
        let check = head.strip_prefix(HEAD).ok_or_else(|| {
            let known = head.starts_with("vestigum sync ");
            if known { "a newer version of the game wrote it" } else { "it is no record of a sync" }
        })?;
        if blake3::hash(lines.as_bytes()).to_hex().as_str() != check.trim() {
            return Err("its check does not fit".into());
        }
        let mut record = Record::default();
        let (mut result, mut of_there, mut from) = (None, None, None);
        for line in lines.lines() {
            let (word, rest) = line.split_once(' ').unwrap_or((line, ""));
            let image = || Image::from_json(rest.as_bytes()).map_err(|error| error.to_string());
            match word {
                "agreed" => record.agreed = Some(image()?),
                "result" => result = Some(image()?),
                "there" => of_there = Some(image()?),
                "from" => {
                    let words: Vec<&str> = rest.split(' ').collect();
                    let [here, there, has] = words[..] else { return Err("`from` says three things".into()) };
                    let number = |text: &str| text.parse::<u64>().map_err(|error| error.to_string());
                    let has = match (Side::from_word(has), has) {
                        (None, NEITHER) => None,
                        (None, _) => return Err(format!("`from` says `{}`", has.escape_debug())),
                        (side, _) => side,
                    };
                    from = Some((number(here)?, number(there)?, has));
                }
                other => return Err(format!("it says `{}`", other.escape_debug())),
            }
        }
        record.pending = match (result, from) {
            (None, None) => None,
            (Some(result), Some((here, there, has))) => Some(Pending { result, of_there, here, there, has }),
            (Some(_), None) | (None, Some(_)) => return Err("only half of what was to be done is said".into()),
        };
        Ok(record)
    }
}
