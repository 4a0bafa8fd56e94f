//! What is done to a field's text before it is read as its type.

use std::borrow::Cow;
use std::collections::HashMap;

use aho_corasick::{AhoCorasick, MatchKind};
use unicode_normalization::{UnicodeNormalization, is_nfc};

use super::options::{BadOption, StepOptions};
use crate::reason::Code;
use crate::repair::RepairKind;
use crate::words::{Case, WhenNotListed};

/// The steps of one column, in their order: swap, controls, blanks, NFC, case,
/// lookup.
#[derive(Debug)]
pub struct Steps {
    swap: Option<Swap>,
    remove_controls: bool,
    collapse_blanks: bool,
    compose: bool,
    case: Case,
    lookup: Option<Lookup>,
}

/// Texts that are replaced by others, all in one pass from the left: what was put in
/// is not looked at again, so that two characters can change places.
#[derive(Debug)]
struct Swap {
    find: AhoCorasick,
    put: Vec<String>,
    /// The way back: what was put in, where that is anything, and what stood there.
    find_put: AhoCorasick,
    found: Vec<String>,
}

/// A message names so many words of a lookup.
const MOST_LISTED: usize = 20;

/// The file's words, each with the value it means.
#[derive(Debug)]
struct Lookup {
    pairs: Vec<(String, String)>,
    /// What each word means.
    meanings: HashMap<String, String>,
    missing: WhenNotListed,
}

impl Steps {
    /// The steps that the spec asks for; none if it asks for none.
    ///
    /// # Errors
    /// A pair that is wrong.
    pub fn new(options: &StepOptions) -> Result<Option<Steps>, BadOption> {
        let steps = Steps {
            swap: swap(&options.swap)?,
            remove_controls: options.remove_controls,
            collapse_blanks: options.collapse_blanks,
            compose: options.compose,
            case: options.case,
            lookup: options.lookup.as_ref().map(|pairs| Lookup {
                meanings: meanings(pairs),
                pairs: pairs.clone(),
                missing: options.when_not_listed,
            }),
        };
        let any = steps.swap.is_some()
            || steps.remove_controls
            || steps.collapse_blanks
            || steps.compose
            || steps.case != Case::Keep
            || steps.lookup.is_some();
        Ok(any.then_some(steps))
    }

    /// The text after all steps; none where the lookup lacks it and it is to be null.
    /// `note` is told of each step that changed it.
    ///
    /// # Errors
    /// The lookup lacks it.
    pub fn apply<'t>(
        &self,
        text: &'t str,
        note: &mut dyn FnMut(RepairKind),
    ) -> Result<Option<Cow<'t, str>>, Code> {
        let mut text = Cow::Borrowed(text);
        if let Some(swap) = &self.swap
            && swap.find.is_match(text.as_ref())
        {
            text = Cow::Owned(swap.find.replace_all(&text, &swap.put));
            note(RepairKind::Swapped);
        }
        let mut step =
            |wanted: bool, what: RepairKind, changed: &dyn Fn(&str) -> Option<String>| {
                if wanted && let Some(new) = changed(&text) {
                    text = Cow::Owned(new);
                    note(what);
                }
            };
        step(self.remove_controls, RepairKind::ControlsRemoved, &|text| {
            let keeps = |c: &char| !c.is_control();
            (!text.chars().all(|c| keeps(&c))).then(|| text.chars().filter(keeps).collect())
        });
        step(
            self.collapse_blanks,
            RepairKind::BlanksCollapsed,
            &collapsed,
        );
        step(self.compose, RepairKind::Composed, &|text| {
            (!is_nfc(text)).then(|| text.nfc().collect())
        });
        step(self.case != Case::Keep, RepairKind::CaseChanged, &|text| {
            let new = match self.case {
                Case::Lower => text.to_lowercase(),
                _ => text.to_uppercase(),
            };
            (new != text).then_some(new)
        });
        match &self.lookup {
            None => Ok(Some(text)),
            Some(lookup) => lookup.apply(text, note),
        }
    }

    /// The text of which [`Steps::apply`] makes this one, where the lookup and the swaps
    /// have one.
    pub fn reversed(&self, text: &str) -> String {
        let looked_up = self.lookup.iter().flat_map(|lookup| &lookup.pairs);
        let mut found = looked_up.filter(|(_, meaning)| meaning == text);
        let mut out = found
            .next()
            .map_or_else(|| text.to_string(), |(word, _)| word.clone());
        if let Some(swap) = &self.swap {
            out = swap.find_put.replace_all(&out, &swap.found);
        }
        out
    }

    /// Pairs that lead to the same, so that nobody can tell which of them was meant.
    pub fn ambiguous(options: &StepOptions) -> Vec<String> {
        let lists = [Some(&options.swap), options.lookup.as_ref()];
        let mut found = Vec::new();
        for pairs in lists.into_iter().flatten() {
            for (index, (word, meaning)) in pairs.iter().enumerate() {
                let before = &pairs[..index];
                if let Some((other, _)) = before.iter().find(|(_, same)| same == meaning) {
                    found.push(format!(
                        "\"{other}\" and \"{word}\" both mean \"{meaning}\""
                    ));
                }
            }
        }
        found
    }

    /// What the lookup holds, as a message names it.
    pub fn listed(&self) -> String {
        let pairs = self.lookup.as_ref().map_or(&[][..], |lookup| &lookup.pairs);
        let words: Vec<&str> = pairs.iter().map(|(word, _)| word.as_str()).collect();
        let shown = &words[..words.len().min(MOST_LISTED)];
        let more = match words.len() - shown.len() {
            0 => String::new(),
            more => format!(" and {more} more"),
        };
        format!("one of the lookup's words: {}{more}", shown.join(", "))
    }
}

/// The text with each run of blanks as one space, if it has others.
fn collapsed(text: &str) -> Option<String> {
    let mut new = String::with_capacity(text.len());
    let mut blank = false;
    for c in text.chars() {
        if c.is_whitespace() {
            if !blank {
                new.push(' ');
            }
            blank = true;
        } else {
            new.push(c);
            blank = false;
        }
    }
    (new != text).then_some(new)
}

/// The first pair of each word counts.
fn meanings(pairs: &[(String, String)]) -> HashMap<String, String> {
    let mut meanings = HashMap::with_capacity(pairs.len());
    for (word, meaning) in pairs {
        meanings
            .entry(word.clone())
            .or_insert_with(|| meaning.clone());
    }
    meanings
}

impl Lookup {
    fn apply<'t>(
        &self,
        text: Cow<'t, str>,
        note: &mut dyn FnMut(RepairKind),
    ) -> Result<Option<Cow<'t, str>>, Code> {
        if let Some(meaning) = self.meanings.get(text.as_ref()) {
            return Ok(Some(Cow::Owned(meaning.clone())));
        }
        match self.missing {
            WhenNotListed::Reject => Err(Code::NotInLookup),
            WhenNotListed::Null => Ok(None),
            WhenNotListed::Keep => {
                note(RepairKind::NotListedKept);
                Ok(Some(text))
            }
        }
    }
}

fn swap(pairs: &[(String, String)]) -> Result<Option<Swap>, BadOption> {
    let bad = |message: String| BadOption::new("replace", message, "not a pair");
    if pairs.is_empty() {
        return Ok(None);
    }
    for (index, (find, _)) in pairs.iter().enumerate() {
        if find.is_empty() {
            return Err(bad("replace has nothing to look for in a pair".into()));
        }
        if pairs[..index].iter().any(|(other, _)| other == find) {
            return Err(bad(format!("replace names \"{find}\" twice")));
        }
    }
    let finder = |texts: &[&String]| {
        AhoCorasick::builder()
            .match_kind(MatchKind::LeftmostLongest)
            .build(texts)
            .map_err(|e| bad(e.to_string()))
    };
    let finds: Vec<&String> = pairs.iter().map(|(find, _)| find).collect();
    let back = pairs.iter().filter(|(_, put)| !put.is_empty());
    let puts: Vec<&String> = back.clone().map(|(_, put)| put).collect();
    Ok(Some(Swap {
        find: finder(&finds)?,
        put: pairs.iter().map(|(_, put)| put.clone()).collect(),
        find_put: finder(&puts)?,
        found: back.map(|(find, _)| find.clone()).collect(),
    }))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn run(options: StepOptions, text: &str) -> (Result<Option<String>, Code>, Vec<RepairKind>) {
        let mut notes = Vec::new();
        let steps = Steps::new(&options).unwrap().unwrap();
        let out = steps.apply(text, &mut |what| notes.push(what));
        (out.map(|text| text.map(Cow::into_owned)), notes)
    }

    fn pairs(pairs: &[(&str, &str)]) -> Vec<(String, String)> {
        pairs
            .iter()
            .map(|(a, b)| ((*a).to_string(), (*b).to_string()))
            .collect()
    }

    #[test]
    fn swapped_characters_may_change_places() {
        let options = StepOptions {
            swap: pairs(&[("'", "\""), ("\"", "'")]),
            ..StepOptions::default()
        };
        let (text, notes) = run(options.clone(), "{'it': \"a\"}");
        assert_eq!(text, Ok(Some("{\"it\": 'a'}".into())));
        assert_eq!(notes, [RepairKind::Swapped]);
        assert_eq!(run(options, "plain").1, []);
    }

    #[test]
    fn each_step_is_noted_only_where_it_changes_something() {
        let options = StepOptions {
            remove_controls: true,
            collapse_blanks: true,
            compose: true,
            case: Case::Upper,
            ..StepOptions::default()
        };
        let (text, notes) = run(options.clone(), "cafe\u{301}  au\u{7} \u{A0}lait");
        assert_eq!(text, Ok(Some("CAFÉ AU LAIT".into())));
        let all = [
            RepairKind::ControlsRemoved,
            RepairKind::BlanksCollapsed,
            RepairKind::Composed,
            RepairKind::CaseChanged,
        ];
        assert_eq!(notes, all);
        assert_eq!(run(options, "CAFÉ AU LAIT").1, []);
    }

    #[test]
    fn what_the_lookup_lacks_is_rejected_made_null_or_kept() {
        let options = |when_not_listed| StepOptions {
            lookup: Some(pairs(&[("ja", "Y"), ("nein", "N")])),
            when_not_listed,
            ..StepOptions::default()
        };
        let found = run(options(WhenNotListed::Reject), "ja");
        assert_eq!(found, (Ok(Some("Y".into())), vec![]));
        let rejected = run(options(WhenNotListed::Reject), "oui");
        assert_eq!(rejected, (Err(Code::NotInLookup), vec![]));
        let nulled = run(options(WhenNotListed::Null), "oui");
        assert_eq!(nulled, (Ok(None), vec![]));
        let kept = run(options(WhenNotListed::Keep), "oui");
        assert_eq!(
            kept,
            (Ok(Some("oui".into())), vec![RepairKind::NotListedKept])
        );
    }

    #[test]
    fn a_pair_must_look_for_something_once() {
        for wrong in [pairs(&[("", "x")]), pairs(&[("a", "x"), ("a", "y")])] {
            assert!(swap(&wrong).is_err());
        }
    }
}
