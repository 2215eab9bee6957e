//! Why a line of a register, or a fact, cannot be read, and why a change cannot be made.

use super::{MAX_CONTAINMENT, MAX_NESTING};
use crate::names::{Near, NotAName};
use crate::value::ValueType;
use jiff::Timestamp;

/// Shorthand: what is told of anything that is a text.
type Text = Box<str>;

/// What is wrong with a line, a fact or a change. Its words are for people; programs read
/// [`Wrong::code`].
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[allow(missing_docs, reason = "what each field is stands in the words beside it")]
pub enum Wrong {
    // -- reading a line ------------------------------------------------------------------------
    #[error("a line has at most {0} bytes")]
    LineTooLong(usize),
    #[error("{0}")]
    NotJson(Text),
    #[error("{what} is a JSON object")]
    NotAnObject { what: Text },
    #[error("{found:?} begins no line{near}; a line says one of: {known}")]
    BeginsNoLine { found: Text, near: Near, known: Text },
    #[error("unknown key {key:?} in {what}{near}")]
    UnknownKey { key: Text, what: &'static str, near: Near },
    #[error("{0} is a text")]
    NotAText(Text),
    #[error("{0} is a list of texts")]
    NotTexts(Text),
    #[error("{0} is true or false")]
    NotABoolean(&'static str),
    #[error("{what} needs {key}")]
    KeyMissing { what: &'static str, key: &'static str },
    #[error("{key} is a moment such as 2026-11-23T08:00:00Z, not {written:?}")]
    NotAMoment { key: &'static str, written: Text },
    #[error("the value {0:?} is a list of texts or numbers")]
    NotScalars(Text),
    #[error(transparent)]
    NotAName(#[from] NotAName),
    #[error("{0:?} is not a name: a to z, 0 to 9 and hyphens, a letter first, at most 64")]
    NotAKey(Text),

    // -- reading a fact ------------------------------------------------------------------------
    #[error("a fact has at most {0} bytes")]
    FactTooLong(usize),
    #[error(
        "{line:?} is not a fact{near}; write such as user:ines.clearance = 5, user:ines in group:night, \
         or grant inspector to user:ines at tenant:northline"
    )]
    NotAFact { line: Text, near: Near },
    #[error("a fact is missing, such as user:ines.clearance = 5")]
    FactMissing,
    #[error("{0:?} is not a fact; write such as user:ines.clearance = 5")]
    NotAPath(Text),
    #[error("say what {entity}.{name} is: {entity}.{name} = …")]
    SayWhat { entity: Text, name: Text },
    #[error("{name:?} is an attribute: write the whole list, {entity}.{name} = [a, b]")]
    WholeList { entity: Text, name: Text },
    #[error("the value of {0} is missing")]
    ValueMissing(Text),
    #[error("{0}")]
    Usage(&'static str),
    #[error("unexpected {word:?}{near}; {usage}")]
    UnexpectedWord { word: Text, near: Near, usage: &'static str },
    #[error("nothing stands after {word:?}; {usage}")]
    NothingAfter { word: Text, usage: &'static str },
    #[error("{0:?} is not a moment such as 2027-01-01 or 2026-11-23T08:00:00Z")]
    NotAFactsMoment(Text),
    #[error("one is in a group or a tenant, not in {of}; for resources write {entity} within {of}")]
    InWhat { entity: Text, of: Text },
    #[error("a resource lies somewhere: write {0} within … to move it, or delete it")]
    LiesSomewhere(Text),
    #[error("the state {0:?} cannot be taken away; set another")]
    StateStays(Text),

    // -- names ---------------------------------------------------------------------------------
    #[error("{0} is not registered")]
    NotRegistered(Text),
    #[error("{0} is deleted")]
    Deleted(Text),
    #[error("the name {0} is taken")]
    Taken(Text),
    #[error("{kind:?} is nobody that can be registered")]
    Nobody { kind: Text },
    #[error("unknown type {kind:?}{near}")]
    UnknownType { kind: Text, near: Near },
    #[error("{what} is a {kinds}, not {name}")]
    WrongKind { what: Text, kinds: Text, name: Text },

    // -- what is said of an entity -------------------------------------------------------------
    #[error("{key} is said of {whose} only, and {name} is a {kind}")]
    NotSaidOf { key: &'static str, whose: &'static str, name: Text, kind: Text },
    #[error("to delete, write {{\"delete\":\"type:id\"}}")]
    DeletedIsNoState,
    #[error("unknown state {word:?}{near}")]
    UnknownState { word: Text, near: Near },
    #[error("a {kind} lies nowhere: its type declares no within")]
    LiesNowhere { kind: Text },
    #[error("{name} must lie within a {kinds}")]
    MustLieWithin { name: Text, kinds: Text },
    #[error("it lies within nothing")]
    LiesWithinNothing,
    #[error("a {kind} does not lie within {outer}")]
    NotWithin { kind: Text, outer: Text },
    #[error("more than {0} in one list")]
    ListTooLong(usize),
    #[error("a {kind} has no attribute {name:?}{near}")]
    UnknownAttribute { kind: Text, name: Text, near: Near },
    #[error("a {kind} has no attribute {name:?}; it is a relation")]
    IsARelation { kind: Text, name: Text },
    #[error("a {kind} has no relation {name:?}{near}")]
    UnknownRelation { kind: Text, name: Text, near: Near },
    #[error("a {kind} has no attribute or relation {name:?}{near}")]
    UnknownProperty { kind: Text, name: Text, near: Near },
    #[error("the attribute {0:?} is a text, number, boolean or a list of them")]
    NoValue(Text),
    #[error("the attribute {name:?} is one {kind}")]
    NotOne { name: Text, kind: ValueType },
    #[error("the attribute {name:?} has more than {most} values")]
    TooManyValues { name: Text, most: usize },
    #[error("the attribute {name:?} is of type {kind}, and {value} is not")]
    WrongType { name: Text, kind: ValueType, value: Text },
    #[error("the attribute {name:?} is one of {values}, not {value}")]
    NotAmongValues { name: Text, values: Text, value: Text },
    #[error("{name:?} leads to one thing, not {count}; null removes it")]
    LeadsToOne { name: Text, count: usize },
    #[error("{name:?} leads to one thing, not {count}")]
    LedToOne { name: Text, count: usize },
    #[error("{name:?} does not lead to {target}")]
    DoesNotLeadTo { name: Text, target: Text },
    #[error("{name:?} leads to more than {most} things")]
    LeadsToTooMany { name: Text, most: usize },
    #[error(
        "{name} cannot move from {from} to {to}: it would change its tenant; say \"drop\": true to move it \
         without the grants, activations and relations of all that moves"
    )]
    LeavesTenant { name: Text, from: Text, to: Text },

    // -- taking away ---------------------------------------------------------------------------
    #[error(
        "{name} contains {count} more, {first} among them; delete those first, or say \"with-contents\": true"
    )]
    Contains { name: Text, count: usize, first: Text },
    #[error("{name} contains more that is not yours to delete")]
    ContainsMore { name: Text },
    #[error("nothing is stated of {0}")]
    NothingStated(Text),
    #[error("{path} is {value}, not that")]
    IsSomethingElse { path: Text, value: Text },
    #[error("{0} does not lead there")]
    LeadsElsewhere(Text),
    #[error("{entity} is not in {of}")]
    NotIn { entity: Text, of: Text },
    #[error("{grant} is not activated for {subject}")]
    NotActivated { grant: Text, subject: Text },
    #[error("{to} holds no {role} at {at} by a grant of its own")]
    HoldsNone { to: Text, role: Text, at: Text },
    #[error("{0} grants say that; end one by its id")]
    SeveralGrants(usize),

    // -- grants --------------------------------------------------------------------------------
    #[error("it would end at {until}, before it begins at {from}")]
    EndsBeforeItBegins { from: Timestamp, until: Timestamp },
    #[error("roles are held by users, services and groups, not by {0}")]
    NoHolder(Text),
    #[error("{0} is no place: a place is everywhere, a tenant or a resource")]
    NoPlace(Text),
    #[error("{id} says the same already")]
    Same { id: Text },
    #[error("another {what} is called {id} already")]
    IdTaken { what: &'static str, id: Text },
    #[error("{id:?} is no id for {what}: no white space, at most 245 bytes")]
    NoId { what: &'static str, id: Text },
    #[error("no {what} is called {id:?}{near}")]
    NoSuch { what: &'static str, id: Text, near: Near },
    #[error("unknown role {role:?}{near}")]
    UnknownRole { role: Text, near: Near },
    #[error("{role:?} is not granted (grantable = false)")]
    NotGrantable { role: Text },
    #[error("{role:?} is not held by a {kind}")]
    NotHeldBy { role: Text, kind: Text },
    #[error("{role:?} is not granted at {place}")]
    NotHeldAt { role: Text, place: Text },
    #[error("a grant of {role:?} names its {name}: \"values\": {{\"{name}\": […]}}")]
    ValueNotNamed { role: Text, name: Text },
    #[error("the value {name:?} names 1 to {most} things")]
    ValueCount { name: Text, most: usize },
    #[error("the value {name:?} is of type {kind}, and {value} is not")]
    ValueWrongType { name: Text, kind: ValueType, value: Text },
    #[error("grants of {role:?} have no value {name:?}{near}")]
    UnknownValue { role: Text, name: Text, near: Near },

    // -- activations ---------------------------------------------------------------------------
    #[error("a grant is activated for a user or service, not for {0}")]
    NotForWhom(Text),
    #[error("{grant} was given to {holder}, not to {subject}")]
    GivenToAnother { grant: Text, holder: Text, subject: Text },
    #[error("{role:?} is not on standby: its grants count without an activation")]
    NotOnStandby { role: Text },
    #[error("{role:?} is activated with a reason")]
    NeedsReason { role: Text },
    #[error("{role:?} is activated for at most {longest}")]
    TooLong { role: Text, longest: Text },
    #[error("an activation ends: say until")]
    NeedsEnd,

    // -- tenants' own roles --------------------------------------------------------------------
    #[error("no tenant has made a role {role:?}{near}")]
    NotMade { role: Text, near: Near },
    #[error("{role:?} is a tenant's role and is held by users")]
    MadeForUsers { role: Text },
    #[error("{role:?} is a tenant's role and has no values")]
    MadeWithoutValues { role: Text },
    #[error("{0:?} is not a key: a to z, 0 to 9 and hyphens, a letter first, at most 64")]
    NotARoleKey(Text),
    #[error("a tenant's role gives something: permissions is empty")]
    GivesNothing,
    #[error("unknown permission {pattern:?}{near}")]
    UnknownPermission { pattern: Text, near: Near },
    #[error("the charter lets no tenant put {permission:?} into a role of its own")]
    NotForTenants { permission: Text },

    // -- the shape of the whole ----------------------------------------------------------------
    #[error("{name} would lie within itself")]
    WithinItself { name: Text },
    #[error("{name} would lie more than {MAX_CONTAINMENT} deep, or in a circle")]
    TooDeep { name: Text },
    #[error("what lies within {name} would lie more than {MAX_CONTAINMENT} deep")]
    ContentsTooDeep { name: Text },
    #[error("{name} would be a member of itself")]
    MemberOfItself { name: Text },
    #[error("{name} would stand in groups more than {MAX_NESTING} deep")]
    NestedTooDeep { name: Text },
    #[error(
        "{subject} would hold {first:?} by {by_first} and {second:?} by {by_second}, which the separation \
         {separation:?} forbids"
    )]
    Separated { subject: Text, first: Text, by_first: Text, second: Text, by_second: Text, separation: Text },
}

impl Wrong {
    /// A stable name of what is wrong.
    pub fn code(&self) -> &'static str {
        match self {
            Wrong::NotRegistered(_) | Wrong::Deleted(_) => "not-registered",
            Wrong::Taken(_) | Wrong::IdTaken { .. } | Wrong::Same { .. } => "taken",
            Wrong::UnknownType { .. }
            | Wrong::UnknownRole { .. }
            | Wrong::UnknownPermission { .. }
            | Wrong::UnknownAttribute { .. }
            | Wrong::IsARelation { .. }
            | Wrong::UnknownRelation { .. }
            | Wrong::UnknownProperty { .. }
            | Wrong::UnknownValue { .. }
            | Wrong::UnknownKey { .. }
            | Wrong::UnknownState { .. }
            | Wrong::BeginsNoLine { .. } => "unknown-name",
            Wrong::NoSuch { .. } | Wrong::NotMade { .. } => "not-found",
            Wrong::WrongType { .. }
            | Wrong::ValueWrongType { .. }
            | Wrong::NotOne { .. }
            | Wrong::NotAmongValues { .. }
            | Wrong::NoValue(_) => "wrong-value",
            Wrong::NotHeldBy { .. }
            | Wrong::NotHeldAt { .. }
            | Wrong::NotGrantable { .. }
            | Wrong::NotForTenants { .. }
            | Wrong::MadeForUsers { .. }
            | Wrong::NotOnStandby { .. } => "not-permitted",
            Wrong::Separated { .. } => "separated",
            Wrong::LeavesTenant { .. } => "leaves-tenant",
            Wrong::Contains { .. } | Wrong::ContainsMore { .. } => "has-contents",
            Wrong::WithinItself { .. }
            | Wrong::TooDeep { .. }
            | Wrong::ContentsTooDeep { .. }
            | Wrong::MemberOfItself { .. }
            | Wrong::NestedTooDeep { .. } => "too-deep",
            Wrong::NotAName(_) | Wrong::NotAKey(_) | Wrong::NotARoleKey(_) | Wrong::NoId { .. } => {
                "not-a-name"
            }
            Wrong::NeedsReason { .. } | Wrong::NeedsEnd | Wrong::TooLong { .. } => "terms-of-standby",
            _ => "unfit",
        }
    }

    /// The name that was likely meant, if a name is not known.
    pub fn near(&self) -> Option<&str> {
        match self {
            Wrong::BeginsNoLine { near, .. }
            | Wrong::UnknownKey { near, .. }
            | Wrong::NotAFact { near, .. }
            | Wrong::UnexpectedWord { near, .. }
            | Wrong::UnknownType { near, .. }
            | Wrong::UnknownState { near, .. }
            | Wrong::UnknownAttribute { near, .. }
            | Wrong::UnknownRelation { near, .. }
            | Wrong::UnknownProperty { near, .. }
            | Wrong::NoSuch { near, .. }
            | Wrong::UnknownRole { near, .. }
            | Wrong::UnknownValue { near, .. }
            | Wrong::NotMade { near, .. }
            | Wrong::UnknownPermission { near, .. } => near.name(),
            _ => None,
        }
    }
}

impl From<Wrong> for String {
    fn from(wrong: Wrong) -> String {
        wrong.to_string()
    }
}
