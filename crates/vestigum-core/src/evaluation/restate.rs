//! A condition said again after the fact: as a playthrough can expect it, behind the step at which it failed.
//!
//! A promise may speak of what a playthrough cannot: the state before the moment, the marks, the level that was left. All
//! that is bound to what it was at that step, with its type; what is still to be read is named with the keys that were
//! meant. The text is made from the compiled expression, so no name or text is ever taken for another.

use crate::evaluation::NodeValue;
use crate::evaluation::{Env, made_name, slot};
use vestigum_spec::model::expression::entry_text;
use vestigum_spec::model::field::FieldId;
use vestigum_spec::model::node::{EntryRef, Made, Node, ReadAt};
use vestigum_spec::syntax::Operator;
use vestigum_spec::value::Value;
use vestigum_spec::vocabulary::names::key_text;

/// Describes how a condition is said again.
#[derive(Clone, Copy)]
pub struct Restating<'a> {
    /// Says what the condition was judged in.
    pub env: Env<'a>,
    /// Whether the state that was judged is the one that the playthrough sees. If not, everything is bound.
    pub seen: bool,
    /// The level in which the playthrough stands when it is asked.
    pub level: Option<u32>,
    /// The container whose items are looked at, as it is said.
    pub each: Option<&'a str>,
}

/// Describes what became of a node: a text that reads something, or nothing is left to be read.
enum Restated {
    Text(Text),
    Bound,
}

/// A text, and how tightly its outermost operator binds.
struct Text {
    text: String,
    tie: Precedence,
}

/// From loosest to tightest: what is looser than its place allows is put in brackets.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
enum Precedence {
    Or,
    And,
    Not,
    Comparison,
    Sum,
    Product,
    Negative,
    One,
}

impl Precedence {
    fn of(operator: Operator) -> Precedence {
        match operator {
            Operator::Or => Precedence::Or,
            Operator::And => Precedence::And,
            Operator::Plus | Operator::Minus => Precedence::Sum,
            Operator::Times | Operator::Divide => Precedence::Product,
            Operator::Equal
            | Operator::Unequal
            | Operator::Below
            | Operator::AtMost
            | Operator::Above
            | Operator::AtLeast => Precedence::Comparison,
        }
    }

    /// Returns what an operand on the right of an operator must be at least: operators of one kind are read from the left.
    fn tighter(self) -> Precedence {
        match self {
            Precedence::Or => Precedence::And,
            Precedence::And => Precedence::Not,
            Precedence::Not => Precedence::Comparison,
            Precedence::Comparison => Precedence::Sum,
            Precedence::Sum => Precedence::Product,
            Precedence::Product => Precedence::Negative,
            Precedence::Negative | Precedence::One => Precedence::One,
        }
    }
}

impl Text {
    /// The text for a place that takes operators binding this tightly or more.
    fn placed(&self, least: Precedence) -> String {
        if self.tie < least { format!("({})", self.text) } else { self.text.clone() }
    }
}

/// A text that needs no brackets anywhere: a name, a call, an entry.
fn one(text: impl Into<String>) -> Restated {
    Restated::Text(Text { text: text.into(), tie: Precedence::One })
}

fn joined_by_commas(parts: &[Text]) -> String {
    parts.iter().map(|part| part.text.as_str()).collect::<Vec<_>>().join(", ")
}

impl Restating<'_> {
    /// The condition as an expectation; none if there is no way to write it.
    pub fn condition(self, node: &Node) -> Option<String> {
        match self.say(node)? {
            Restated::Text(text) => Some(text.text),
            Restated::Bound => self.bound(node).map(|bound| bound.text),
        }
    }

    /// The value that a node has.
    fn bound(self, node: &Node) -> Option<Text> {
        let text = node.value(&self.env).literal()?;
        let tie = if text.starts_with('-') { Precedence::Negative } else { Precedence::One };
        Some(Text { text, tie })
    }

    /// A part, and whether something in it is still read. What cannot be said as it stands is bound.
    fn part(self, node: &Node) -> Option<(Text, bool)> {
        match self.say(node) {
            Some(Restated::Text(text)) => Some((text, true)),
            Some(Restated::Bound) | None => Some((self.bound(node)?, false)),
        }
    }

    /// Parts in a pattern; bound as a whole if all of them are.
    fn parts(self, nodes: &[&Node], tie: Precedence, say: impl FnOnce(&[Text]) -> String) -> Option<Restated> {
        let parts = nodes.iter().map(|node| self.part(node)).collect::<Option<Vec<_>>>()?;
        if parts.iter().all(|(_, read)| !read) {
            return Some(Restated::Bound);
        }
        let parts: Vec<Text> = parts.into_iter().map(|(text, _)| text).collect();
        Some(Restated::Text(Text { text: say(&parts), tie }))
    }

    fn call(self, function: &str, arguments: &[&Node]) -> Option<Restated> {
        self.parts(arguments, Precedence::One, |of| format!("{function}({})", joined_by_commas(of)))
    }

    fn say(self, node: &Node) -> Option<Restated> {
        let spec = self.env.spec;
        Some(match node {
            Node::Const(_) | Node::Level | Node::Checkpoint | Node::Exit | Node::LevelIndex | Node::CheckpointIndex => {
                Restated::Bound
            }
            // What is not seen any more is bound, whatever it is.
            Node::Read(..) | Node::Filled(..) | Node::Aggregate(..) | Node::Derived(_) | Node::Open(_)
                if !self.seen =>
            {
                Restated::Bound
            }
            Node::Read(ReadAt::Now, field, entry) => self.named(*field, entry).map_or(Restated::Bound, one),
            Node::Read(ReadAt::Entry | ReadAt::Checkpoint | ReadAt::Was, ..) | Node::Before(_) => Restated::Bound,
            Node::Filled(field, entry) => {
                self.named(*field, entry).map_or(Restated::Bound, |name| one(format!("filled({name})")))
            }
            Node::Aggregate(over, field) => one(format!("{}({})", over.word(), spec.field(*field).name)),
            Node::Derived(index) => {
                let derived = &spec.derived[*index as usize];
                if derived.expression.speaks_of_place(spec) { Restated::Bound } else { one(&*derived.name) }
            }
            Node::Open(level) => match level.or(self.env.level) {
                Some(level) => one(format!("open({})", spec.level(level).id)),
                None => Restated::Bound,
            },
            Node::Wide(inner) => return self.say(inner),
            Node::Rounded(whole, inner) => return self.call(whole.word(), &[inner]),
            Node::Not(inner) => {
                return self.parts(&[inner], Precedence::Not, |of| format!("not {}", of[0].placed(Precedence::Sum)));
            }
            Node::Negative(inner) => {
                return self.parts(&[inner], Precedence::Negative, |of| format!("-{}", of[0].placed(Precedence::One)));
            }
            Node::Binary(operator @ (Operator::And | Operator::Or), left, right) => {
                return self.joined(*operator, left, right);
            }
            Node::Binary(operator, left, right) => {
                let tie = Precedence::of(*operator);
                // Comparisons do not chain.
                let first = if tie == Precedence::Comparison { tie.tighter() } else { tie };
                return self.parts(&[left, right], tie, |of| {
                    format!("{} {} {}", of[0].placed(first), operator.word(), of[1].placed(tie.tighter()))
                });
            }
            Node::Chain(first, rest) => return self.chain(first, rest),
            Node::If(branches) => {
                let [condition, yes, no] = &**branches;
                // Where the condition is bound, so is the branch that was taken.
                let Some((condition, true)) = self.part(condition) else {
                    let taken = if condition.value(&self.env).as_bool() { yes } else { no };
                    return self.say(taken);
                };
                let (yes, no) = (self.part(yes)?.0, self.part(no)?.0);
                one(format!("if({}, {}, {})", condition.text, yes.text, no.text))
            }
            Node::Highest(nodes) => return self.call("max", &nodes.iter().collect::<Vec<_>>()),
            Node::Lowest(nodes) => return self.call("min", &nodes.iter().collect::<Vec<_>>()),
            Node::Len(inner) => return self.call("len", &[inner]),
            Node::Has(container, item) => {
                let Some((held, true)) = self.part(container) else { return self.any_of(container, item) };
                one(format!("has({}, {})", held.text, self.part(item)?.0.text))
            }
            Node::Place(ranking, entry, _) => match (self.part(ranking)?, self.part(entry)?) {
                ((ranking, true), (entry, _)) => one(format!("place_in({}, {})", ranking.text, entry.text)),
                _ => Restated::Bound,
            },
            Node::Each => self.each.map_or(Restated::Bound, one),
            Node::Items(over, container, each, _) => match self.part(container)? {
                (held, true) => {
                    let held = held.placed(Precedence::One);
                    let inside = Restating { each: Some(&held), ..self };
                    one(format!("{}({})", over.word(), inside.part(each)?.0.text))
                }
                _ => Restated::Bound,
            },
            Node::Item(map, key, _) => match (self.part(map)?, self.part(key)?) {
                ((map, true), (key, _)) => one(format!("{}[{}]", map.text, key.text)),
                _ => Restated::Bound,
            },
            Node::Member(inner, name, _) => match self.part(inner)? {
                (inner, true) => one(format!("{}.{name}", inner.text)),
                _ => Restated::Bound,
            },
            Node::Make(nodes, made) => {
                let nodes: Vec<&Node> = nodes.iter().collect();
                return self.parts(&nodes, Precedence::One, |of| match made {
                    Made::Items(_) => format!("[{}]", joined_by_commas(of)),
                    Made::Named(_, names) => {
                        let members = names.iter().zip(of);
                        let members = members.map(|(name, value)| format!("{} = {}", key_text(name), value.text));
                        format!("{{ {} }}", members.collect::<Vec<_>>().join(", "))
                    }
                });
            }
            Node::Table(steps, inner, table, level) => {
                let table = &spec.tables[*table as usize];
                // A table with steps of a level's own means another level's where play stands now.
                if table.has_own_steps() && self.level != level.or(self.env.level) {
                    return Some(Restated::Bound);
                }
                let word = steps.word();
                return self.parts(&[inner], Precedence::One, |of| format!("{word}({}, {})", of[0].text, table.name));
            }
        })
    }

    fn chain(self, first: &Node, rest: &[(Operator, Node)]) -> Option<Restated> {
        let nodes: Vec<&Node> = std::iter::once(first).chain(rest.iter().map(|(_, node)| node)).collect();
        let last = rest.last().map_or(Precedence::One, |(operator, _)| Precedence::of(*operator));
        self.parts(&nodes, last, |of| {
            let mut so_far = Text { text: of[0].text.clone(), tie: of[0].tie };
            for ((operator, _), part) in rest.iter().zip(&of[1..]) {
                let tie = Precedence::of(*operator);
                let text = format!("{} {} {}", so_far.placed(tie), operator.word(), part.placed(tie.tighter()));
                so_far = Text { text, tie };
            }
            so_far.text
        })
    }

    /// An entry of a field by the keys that were meant; none where there is no such entry.
    fn named(self, field: FieldId, entry: &EntryRef) -> Option<String> {
        let spec = self.env.spec;
        let of = spec.field(field);
        if let EntryRef::Picked(picks) = entry
            && let Some(name) = made_name(&self.env, of, picks)
        {
            return Some(name);
        }
        slot(&self.env, field, entry).map(|slot| entry_text(spec, of, slot, &self.env.state.made))
    }

    /// `and` and `or`: what is bound on one side decides, or leaves the other.
    fn joined(self, operator: Operator, left: &Node, right: &Node) -> Option<Restated> {
        let decides = operator == Operator::Or;
        let text = |side: &Node| match self.say(side) {
            Some(Restated::Text(text)) => Ok(text),
            Some(Restated::Bound) | None => Err(side.value(&self.env).as_bool()),
        };
        let tie = Precedence::of(operator);
        Some(match (text(left), text(right)) {
            // A row of one word may be joined in any way.
            (Ok(a), Ok(b)) => {
                Restated::Text(Text { text: format!("{} {} {}", a.placed(tie), operator.word(), b.placed(tie)), tie })
            }
            (Ok(text), Err(bound)) | (Err(bound), Ok(text)) if bound != decides => Restated::Text(text),
            _ => Restated::Bound,
        })
    }

    /// Returns whether an item is in a container that is bound: equal to one of what is in it.
    fn any_of(self, container: &Node, item: &Node) -> Option<Restated> {
        let Some(Restated::Text(item)) = self.say(item) else { return Some(Restated::Bound) };
        let items: Vec<Value> = match container.value(&self.env) {
            Value::Set(set) => set.iter().cloned().collect(),
            Value::List(list) => list.iter().cloned().collect(),
            Value::Map(map) => map.keys().map(|key| Value::Text(key.clone())).collect(),
            _ => return Some(Restated::Bound),
        };
        let item = item.placed(Precedence::Sum);
        let each = items.iter().map(|value| Some(format!("{item} == {}", value.literal()?)));
        let each = each.collect::<Option<Vec<_>>>()?;
        let text = Text {
            text: each.join(" or "),
            tie: if each.len() == 1 { Precedence::Comparison } else { Precedence::Or },
        };
        Some(if each.is_empty() { Restated::Bound } else { Restated::Text(text) })
    }
}
