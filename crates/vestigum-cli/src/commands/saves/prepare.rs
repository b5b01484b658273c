//! `vestigum saves prepare`: a place that saves can be written to.

use serde_json::json;

use vestigum::Store;

use super::places::Place;
use crate::Verdict;
use crate::show::{GOOD, Output, counted, paint};

#[derive(clap::Args)]
pub(super) struct Arguments {
    /// The save folder, sqlite:FILE, or postgres://USER@HOST/DATABASE (with #SCHEMA if it is not `vestigum`)
    #[arg(value_parser = Place::parser())]
    place: Place,
}

pub(super) fn run(out: &Output, arguments: &Arguments) -> Result<Verdict, Verdict> {
    let Arguments { place } = arguments;
    let store = place.make().map_err(|why| out.unusable(&why))?;
    let owners = store.owners().map_err(|error| out.unusable(&error.to_string()))?.len();
    if out.json {
        out.json(&json!({ "place": place.to_string(), "owners": owners }));
    } else {
        let has = format!("it has saves of {}", counted(owners, "owner"));
        out.line(format_args!("{}: {place} is ready; {has}", paint(GOOD, "done")));
    }
    Ok(Verdict::Fine)
}
