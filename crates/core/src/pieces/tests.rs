//! Each table beside a plain one of the standard library, copies of both among them.

use super::*;
use proptest::prelude::*;
use std::collections::{BTreeMap, HashMap};
use std::hash::BuildHasher as _;

fn dice(seed: u64) -> impl FnMut(u32) -> u32 {
    let mut state = seed;
    move |bound| {
        state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        u32::try_from(state >> 33).unwrap_or(0) % bound
    }
}

#[test]
fn lists_hold_what_vectors_hold_in_every_copy_and_rooms_are_used_again() {
    type Small = Lists<u32, 100>;
    type Model = Vec<(List, Vec<u32>)>;
    let mut lists = Small::default();
    let mut held = vec![(List::default(), Vec::new()); 40];
    let mut copies: Vec<(Small, Model)> = Vec::new();
    let mut below = dice(7);
    for round in 0..20_000 {
        let (list, model) = &mut held[below(40) as usize];
        match below(5) {
            0 if !model.is_empty() => {
                let item = model[below(u32::try_from(model.len()).unwrap_or(1)) as usize];
                lists.take(list, item);
                let at = model.iter().rposition(|known| *known == item).unwrap_or(0);
                model.swap_remove(at);
            }
            1 => {
                // Up to far beyond what lies in one piece.
                *model = (0..below(if round % 50 == 0 { 400 } else { 30 })).collect();
                lists.set(list, model);
            }
            _ => {
                lists.push(list, round);
                model.push(round);
            }
        }
        if round % 1_000 == 0 {
            copies.push((lists.clone(), held.clone()));
        }
    }
    copies.push((lists, held));
    for (lists, held) in &copies {
        for (list, model) in held {
            assert_eq!(lists.get(*list), model.as_slice());
        }
    }
    let (lists, held) = &copies[copies.len() - 1];
    let most: usize = held.iter().map(|(_, model)| model.len()).sum();
    assert!(lists.size_bytes() < most * 16 + 200_000, "{} bytes for {most}", lists.size_bytes());
}

#[test]
fn an_index_finds_what_a_map_finds_in_every_copy() {
    let hasher = foldhash::fast::RandomState::default();
    let hash_of = |number: u32| hasher.hash_one(number);
    let (mut index, mut model) = (Index::default(), HashMap::new());
    let mut copies: Vec<(Index, HashMap<u32, ()>)> = Vec::new();
    let mut below = dice(3);
    for round in 0..30_000 {
        let number = below(12_000);
        if model.remove(&number).is_some() {
            index.remove(hash_of(number), number);
        } else {
            model.insert(number, ());
            index.insert(hash_of(number), number, hash_of);
        }
        if round % 7_000 == 0 {
            copies.push((index.clone(), model.clone()));
        }
    }
    copies.push((index, model));
    for (index, model) in copies {
        for number in 0..12_000 {
            let found = index.find(hash_of(number), |known| known == number);
            assert_eq!(found.is_some(), model.contains_key(&number), "{number}");
        }
    }
}

proptest! {
    #[test]
    fn texts_are_what_was_pushed_in_every_copy(
        pushed in prop::collection::vec(prop_oneof![
            8 => "\\PC{0,40}".boxed(),
            1 => (0_usize..200_000).prop_map(|len| "x".repeat(len)).boxed(),
        ], 0..60),
        kept in 0_usize..60,
    ) {
        let mut texts = Texts::default();
        for text in &pushed {
            texts.push(text);
        }
        let copy = texts.clone();
        let kept = kept.min(pushed.len());
        texts.truncate(u32::try_from(kept).unwrap_or(0));
        texts.push("after");
        let all = |texts: &Texts| (0..texts.end()).map(|at| texts.get(u32::try_from(at).unwrap_or(0)).to_owned()).collect::<Vec<_>>();
        prop_assert_eq!(all(&copy), pushed.clone());
        let mut expected = pushed[..kept].to_vec();
        expected.push("after".to_owned());
        prop_assert_eq!(all(&texts), expected);
    }

    #[test]
    fn slots_and_tables_are_what_maps_are_in_every_copy(
        steps in prop::collection::vec((0_u32..40, any::<bool>()), 0..400),
    ) {
        let (mut slots, mut model) = (Slots::<u32, 7>::default(), BTreeMap::new());
        let mut copies = Vec::new();
        for (step, (number, put)) in steps.into_iter().enumerate() {
            if put {
                let at = slots.put(number);
                prop_assert_eq!(model.insert(at, number), None);
            } else {
                prop_assert_eq!(slots.take(number), model.remove(&number));
            }
            if step % 50 == 0 {
                copies.push((slots.clone(), model.clone()));
            }
        }
        copies.push((slots, model));
        for (slots, model) in copies {
            for at in 0..60 {
                prop_assert_eq!(slots.get(at), model.get(&at));
            }
        }
    }
}
