//! Grants: who was given which role where, as columns.

use super::{EntityId, PlaceOf, Sym};
use crate::pieces::{Index, ROWS, Slots, Table};
use crate::value::Scalar;
use foldhash::fast::RandomState;
use jiff::Timestamp;
use std::fmt;
use std::hash::BuildHasher as _;

/// The id of a grant. Those that the register numbers itself are numbers, not texts.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum GrantId<'r> {
    /// `g-17`
    Number(u32),
    /// Any other.
    Text(&'r str),
}

impl<'r> GrantId<'r> {
    /// Numbers from here on are texts.
    const END: u32 = 1 << 31;

    /// Reads an id; every text is one.
    pub fn new(text: &'r str) -> Self {
        let digits = text.strip_prefix("g-").filter(|digits| !digits.starts_with(['0', '+']));
        let number = digits.and_then(|digits| digits.parse().ok()).filter(|number| *number < Self::END);
        number.map_or(GrantId::Text(text), GrantId::Number)
    }
}

impl fmt::Display for GrantId<'_> {
    fn fmt(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            GrantId::Number(number) => write!(formatter, "g-{number}"),
            GrantId::Text(text) => formatter.write_str(text),
        }
    }
}

/// What most grants are without: a start, an end, values.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Terms {
    /// First moment it counts.
    pub from: Option<Timestamp>,
    /// First moment it counts no more.
    pub until: Option<Timestamp>,
    /// Values, by name.
    pub values: Vec<(Sym, Vec<Scalar>)>,
}

impl Terms {
    /// Whether they are none.
    pub(super) fn is_plain(&self) -> bool {
        *self == NO_TERMS
    }

    /// Whether a grant of these terms counts at a moment.
    pub fn is_live(&self, now: Timestamp) -> bool {
        self.from.is_none_or(|from| from <= now) && self.until.is_none_or(|until| now < until)
    }
}

pub(super) static NO_TERMS: Terms = Terms { from: None, until: None, values: Vec::new() };

/// A role given to a holder at a place.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Grant<'r> {
    /// Its id.
    pub id: GrantId<'r>,
    /// The role's key.
    pub role: Sym,
    /// User, service or group.
    pub to: EntityId,
    /// Where.
    pub at: PlaceOf,
    /// When, and with which values.
    pub terms: &'r Terms,
}

impl Grant<'_> {
    /// Whether it counts at a moment.
    pub fn is_live(&self, now: Timestamp) -> bool {
        self.terms.is_live(now)
    }
}

/// A grant on its own.
#[derive(Clone, Debug)]
pub(super) struct OwnGrant {
    pub id: Box<str>,
    pub role: Sym,
    pub to: EntityId,
    pub at: PlaceOf,
    pub terms: Terms,
}

impl OwnGrant {
    /// Whether a grant says the same, whatever its id.
    pub fn says(&self, other: &Grant<'_>) -> bool {
        (self.role, self.to, self.at, &self.terms) == (other.role, other.to, other.at, other.terms)
    }
}

/// A row of the table; one of nobody is of a grant that has ended.
#[derive(Clone, Copy, Debug)]
struct Row {
    role: Sym,
    to: u32,
    at: u32,
    /// A number, or from `GrantId::END` on the place of a text.
    id: u32,
    terms: u32,
}

const NONE: u32 = u32::MAX;

impl Default for Row {
    fn default() -> Self {
        Row { role: Sym(0), to: NONE, at: 0, id: 0, terms: NONE }
    }
}

/// All grants, and which is called what.
#[derive(Clone, Debug, Default)]
pub(super) struct Grants {
    rows: Table<Row, ROWS>,
    texts: Slots<Box<str>, 63>,
    terms: Slots<Terms, 63>,
    by_id: Index,
    hasher: RandomState,
    live: usize,
}

impl Grants {
    fn row(&self, at: u32) -> Option<&Row> {
        if !self.rows.has(at as usize) {
            return None;
        }
        Some(self.rows.get(at as usize)).filter(|row| row.to != NONE)
    }

    pub fn get(&self, at: u32) -> Option<Grant<'_>> {
        let row = self.row(at)?;
        Some(Grant {
            id: id_of(row, &self.texts),
            role: row.role,
            to: EntityId(row.to),
            at: PlaceOf::unpack(row.at),
            terms: if row.terms == NONE { &NO_TERMS } else { self.terms.get(row.terms)? },
        })
    }

    pub fn find(&self, id: &str) -> Option<u32> {
        let id = GrantId::new(id);
        let same = |at: u32| id_of(self.rows.get(at as usize), &self.texts) == id;
        self.by_id.find(self.hasher.hash_one(id), same)
    }

    pub fn iter(&self) -> impl Iterator<Item = (u32, Grant<'_>)> {
        let all = self.rows.numbers().map(|at| u32::try_from(at).unwrap_or(u32::MAX));
        all.filter_map(|at| Some((at, self.get(at)?)))
    }

    /// How many there are.
    pub fn len(&self) -> usize {
        self.live
    }

    pub fn add(&mut self, grant: OwnGrant) -> u32 {
        let at = u32::try_from(self.rows.push(Row::default())).expect("fewer than 2^32 grants");
        assert!(at < GrantId::END, "fewer than 2^31 grants");
        self.put(at, grant);
        at
    }

    /// Puts one where none is.
    pub fn put(&mut self, at: u32, grant: OwnGrant) {
        let hash = self.hasher.hash_one(GrantId::new(&grant.id));
        let id = match GrantId::new(&grant.id) {
            GrantId::Number(number) => number,
            GrantId::Text(_) => self.texts.put(grant.id) | GrantId::END,
        };
        let terms = if grant.terms == NO_TERMS { NONE } else { self.terms.put(grant.terms) };
        *self.rows.get_mut(at as usize) =
            Row { role: grant.role, to: grant.to.0, at: grant.at.pack(), id, terms };
        let Grants { rows, texts, by_id, hasher, .. } = self;
        by_id.insert(hash, at, |at| hasher.hash_one(id_of(rows.get(at as usize), texts)));
        self.live += 1;
    }

    pub fn take(&mut self, at: u32) -> Option<OwnGrant> {
        let row = *self.row(at)?;
        let hash = self.hasher.hash_one(id_of(&row, &self.texts));
        self.by_id.remove(hash, at);
        let id = match row.id {
            number if number < GrantId::END => GrantId::Number(number).to_string().into(),
            text => self.texts.take(text - GrantId::END)?,
        };
        self.rows.get_mut(at as usize).to = NONE;
        self.live -= 1;
        Some(OwnGrant {
            id,
            role: row.role,
            to: EntityId(row.to),
            at: PlaceOf::unpack(row.at),
            terms: self.terms.take(row.terms).unwrap_or_default(),
        })
    }

    /// Forgets the places from here on, where no grant is left.
    pub fn truncate(&mut self, at: u32) {
        self.rows.truncate(at as usize);
    }

    pub fn size_bytes(&self) -> usize {
        let terms = self.terms.iter().map(|terms| {
            let values = terms.values.iter().map(|(_, values)| {
                values.capacity() * size_of::<Scalar>() + values.iter().map(Scalar::size_bytes).sum::<usize>()
            });
            terms.values.capacity() * size_of::<(Sym, Vec<Scalar>)>() + values.sum::<usize>()
        });
        self.rows.size_bytes()
            + self.texts.size_bytes()
            + self.texts.iter().map(|text| text.len()).sum::<usize>()
            + self.terms.size_bytes()
            + terms.sum::<usize>()
            + self.by_id.size_bytes()
    }
}

fn id_of<'r>(row: &Row, texts: &'r Slots<Box<str>, 63>) -> GrantId<'r> {
    match row.id {
        number if number < GrantId::END => GrantId::Number(number),
        text => GrantId::Text(texts.get(text - GrantId::END).map_or("", |text| text)),
    }
}
