//! Migration: how saves of older versions come to this one.
//!
//! A spec that was read with its [history](crate::history) takes every older image through the versions between, one
//! after the other. `steps` reads what the document says and `names` knows what became of names; `plan` works out where
//! every field's values come from, `merged` finds names that become one, and `needs` what was forgotten (`gone` for fields, `limits` for what can hold
//! less); `offers` guesses the steps that would say it, and `completing` tries them. `prepare` does so for every version and shape, `loose` for saves that hold
//! more than any frozen shape. `apply` takes an image one version on (`entries` knows where each entry goes, `levels` finds room for those that players made),
//! `chain` a player's and a device's all the way, and `origins` what installations gave along with them.
//! Old images are never touched: loading makes new ones of them, which become the newest only when the game saves.
mod completing;
pub(crate) mod fills;
mod gone;
mod limits;
pub(crate) mod loose;
pub(crate) mod merged;
pub(crate) mod names;
pub(crate) mod needs;
pub(crate) mod offers;
pub(crate) mod plan;
pub(crate) mod prepare;
pub(crate) mod steps;
pub(crate) mod version_step;
pub(crate) mod wording;

pub use loose::{Loose, Unplaced};
pub use names::{ChoiceOwner, NameMap};
pub use needs::{Need, either};
pub use offers::Offer;
pub use plan::{FieldPlan, Fill, MemberFill, MigrationPlan, OwnerKind};
pub use prepare::{Updates, VersionPlans};
pub use steps::KINDS;
pub use version_step::VersionStep;
