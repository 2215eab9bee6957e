//! What cannot be meant, one file each: the words, what to do, and a charter that shows it. Where
//! each is looked for stands in the steps of the check; what is misspelt, of the wrong shape or over
//! a bound is told by the readers themselves.

pub mod affordance_loop;
pub mod allow_rule;
pub mod conferred_without_grant;
pub mod confers_on_nobody;
pub mod except_nothing;
pub mod given_without_grant;
pub mod group_compared;
pub mod held_wider;
pub mod holding_circle;
pub mod holds_guarded;
pub mod includes_standby;
pub mod includes_values;
pub mod inclusion_loop;
pub mod issuers_alike;
pub mod routes_equal;
pub mod segments_cross;
pub mod separation;
pub mod standby_reads;
pub mod tenant_unguarded;
