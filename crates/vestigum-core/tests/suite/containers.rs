//! Lists, sets and maps against those of the standard library, with more than one chunk of items.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use proptest::prelude::*;
use vestigum_core::{List, Map, Set, Value};

/// Names what is done, with a number that says to what: below zero takes out, else puts in.
fn steps() -> impl Strategy<Value = Vec<i64>> {
    prop::collection::vec(prop_oneof![4 => 0..4000_i64, 3 => -4000..0_i64], 0..600)
}

fn key(number: i64) -> Arc<str> {
    format!("{number:05}").into()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(48))]

    #[test]
    fn a_set_is_the_set_of_the_standard_library(first in 0..3000_i64, steps in steps()) {
        let mut set: Set = (0..first).map(Value::Int).collect();
        let mut model: BTreeSet<Value> = (0..first).map(Value::Int).collect();
        for step in steps {
            let (before, model_before) = (set.clone(), model.clone());
            let value = Value::Int(step.abs());
            if step < 0 {
                prop_assert_eq!(set.remove(&value), model.remove(&value));
            } else {
                prop_assert_eq!(set.insert(value.clone()), model.insert(value.clone()));
            }
            prop_assert_eq!(set.contains(&value), model.contains(&value));
            prop_assert_eq!(set.len(), model.len());
            prop_assert_eq!(set.cmp(&before), model.cmp(&model_before));
            prop_assert_eq!(set == before, model == model_before);
            prop_assert!(before.iter().eq(&model_before));
        }
        prop_assert!(set.iter().eq(&model));
        prop_assert!(set.iter().rev().eq(model.iter().rev()));
        prop_assert_eq!(&set, &model.iter().cloned().collect::<Set>());
    }

    #[test]
    fn a_map_is_the_map_of_the_standard_library(first in 0..3000_i64, steps in steps()) {
        let entries = || (0..first).map(|number| (key(number), Value::Int(number)));
        let (mut map, mut model): (Map, BTreeMap<Arc<str>, Value>) = (entries().collect(), entries().collect());
        for (count, step) in steps.into_iter().enumerate() {
            let (before, model_before) = (map.clone(), model.clone());
            let at = key(step.abs() % 2000);
            if step < 0 {
                prop_assert_eq!(map.remove(&at), model.remove(&at));
            } else {
                let value = Value::Int(count as i64 % 3);
                prop_assert_eq!(map.insert(at.clone(), value.clone()), model.insert(at.clone(), value));
            }
            prop_assert_eq!(map.get(&at), model.get(&at));
            prop_assert_eq!(map.len(), model.len());
            prop_assert_eq!(map.cmp(&before), model.cmp(&model_before));
            prop_assert_eq!(map == before, model == model_before);
            prop_assert!(before.iter().eq(&model_before));
        }
        prop_assert!(map.iter().eq(&model));
        prop_assert!(map.keys().rev().eq(model.keys().rev()));
        prop_assert_eq!(map, Map::from(model));
    }

    #[test]
    fn a_list_is_the_vector_of_the_standard_library(first in 0..3000_i64, steps in steps()) {
        let mut model: Vec<Value> = (0..first).map(Value::Int).collect();
        let mut list = List::from(model.clone());
        for step in steps {
            let before = list.clone();
            let model_before = model.clone();
            let index = step.unsigned_abs() as usize;
            if step < 0 {
                let gone = (index < model.len()).then(|| model.remove(index));
                prop_assert_eq!(list.remove(index), gone);
            } else {
                list.push(Value::Int(step));
                model.push(Value::Int(step));
            }
            prop_assert_eq!(list.get(index), model.get(index));
            prop_assert_eq!(list.cmp(&before), model.cmp(&model_before));
            prop_assert!(before.iter().eq(&model_before));
        }
        prop_assert_eq!(list.len(), list.iter().count());
        prop_assert!(list.iter().eq(&model));
        prop_assert!(list.iter().rev().eq(model.iter().rev()));
    }
}

#[test]
fn lists_of_any_length_are_ordered_as_vectors_are() {
    let of = |count: i64, last: i64| -> (List, Vec<Value>) {
        let values: Vec<Value> = (0..count).map(Value::Int).chain([Value::Int(last)]).collect();
        (values.clone().into(), values)
    };
    let all: Vec<_> = [0, 1, 255, 256, 257, 700].into_iter().flat_map(|count| [of(count, -1), of(count, 9)]).collect();
    for (a, model_a) in &all {
        for (b, model_b) in &all {
            assert_eq!(a.cmp(b), model_a.cmp(model_b));
            assert_eq!(a == b, model_a == model_b);
        }
    }
}
