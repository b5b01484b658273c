//! A spec that counts how often its sources were taken, for exploring.

use crate::spec::Spec;
use vestigum_spec::diagnostic::Spanned;
use vestigum_spec::document::FieldEntry;
use vestigum_spec::model::field::FieldId;
use vestigum_spec::vocabulary::merging::MergeLaw;
use vestigum_spec::vocabulary::span::Span;

impl Spec {
    /// Adds a counter for each source: a field that says how often it was taken. The counters come after
    /// all other declared fields, in the order of the sources.
    #[doc(hidden)]
    pub fn with_counters(&self) -> (Spec, Vec<FieldId>) {
        let mut document = self.model().document.clone();
        let word = |text: &str| Spanned::new(text.to_owned(), Default::default());
        let mut names = Vec::new();
        for source in &self.model().sources {
            let mut name = format!("taken_{}", source.name);
            while self.model().find_field(&name).is_some() || self.model().derived_ids.contains_key(name.as_str()) {
                name.push('_');
            }
            // What lasts longer than a visit is taken in one level, and not in the others.
            let longer = !source.lasts.is_of_visit();
            // No save of an exploration is merged, but a spec that merges wants to know.
            let merge = document.merge.as_ref().filter(|_| source.lasts == Span::Profile);
            let entry = FieldEntry {
                merge: merge.map(|_| word(MergeLaw::Newer.word())),
                ty: Some(word("int")),
                per: if longer { vec![word("level")] } else { Vec::new() },
                lasts: Some(word(source.lasts.word())),
                after_failure: source.after_failure.map(|fate| word(fate.word())),
                written_by: Some(word("play")),
                ..FieldEntry::default()
            };
            document.fields.push((word(&name), entry));
            names.push(name);
        }
        match self.of_document(&document) {
            Some(spec) => {
                let ids = names.iter().filter_map(|name| spec.model().field_ids.get(name.as_str()).copied()).collect();
                (spec, ids)
            }
            // A sound spec stays sound with more fields of new names.
            None => (self.clone(), Vec::new()),
        }
    }
}
