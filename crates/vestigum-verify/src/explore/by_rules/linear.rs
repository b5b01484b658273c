//! Sums of ints, compared as sums: with what their terms can be, and with what is known of other sums.

use vestigum_core::Value;
use vestigum_spec::analysis::assume::is_whole;
use vestigum_spec::model::node::Node;
use vestigum_spec::syntax::Operator;

use super::decide::Known;

/// Sums of ints are compared as sums only where bounds, which are floats, tell ints apart: so no sum was cut at the end of
/// what an int can be.
const EXACT: f64 = (1_u64 << 53) as f64;

/// The most facts that are put together in one comparison.
const FACTS: usize = 2;

/// A sum of ints: its terms, each with how often it is added, and a constant.
#[derive(Clone, Default)]
struct Sum {
    terms: Vec<(Node, i128)>,
    constant: i128,
    /// Holds one term without bounds.
    open: Option<Node>,
}

impl Sum {
    fn add(&mut self, node: &Node, factor: i128) {
        match self.terms.iter_mut().find(|(term, _)| term == node) {
            Some((_, sum)) => *sum += factor,
            None => self.terms.push((node.clone(), factor)),
        }
        self.terms.retain(|(_, factor)| *factor != 0);
    }

    /// The sum without another one, taken a number of times.
    fn without(&self, other: &Sum, times: i128) -> Sum {
        let mut sum = self.clone();
        other.terms.iter().for_each(|(node, factor)| sum.add(node, -factor * times));
        sum.constant -= other.constant * times;
        sum
    }

    fn factor(&self, node: &Node) -> i128 {
        self.terms.iter().find(|(term, _)| term == node).map_or(0, |(_, factor)| *factor)
    }
}

impl Known<'_> {
    /// Returns whether the first is certainly more than the second by that much, as sums of ints.
    pub(super) fn is_apart(&self, a: &Node, b: &Node, least: i128) -> bool {
        let mut sum = Sum::default();
        self.gather(a, 1, &mut sum).and_then(|()| self.gather(b, -1, &mut sum)).is_some()
            && self.is_at_least(&sum, least, FACTS)
    }

    /// Says whether a sum is certainly that much, by the bounds of its terms and by a limited number of facts.
    fn is_at_least(&self, sum: &Sum, least: i128, facts: usize) -> bool {
        if self.is_spent() {
            return false;
        }
        if self.lowest(sum).is_some_and(|lowest| lowest >= least) {
            return true;
        }
        facts > 0
            && self.sums_known().iter().any(|(known, at_least)| {
                let times = known.terms.iter().filter_map(|(node, factor)| {
                    let of = sum.factor(node);
                    (of % factor == 0 && of / factor > 0).then_some(of / factor)
                });
                let mut times: Vec<i128> = times.collect();
                times.sort_unstable();
                times.dedup();
                times
                    .iter()
                    .any(|times| self.is_at_least(&sum.without(known, *times), least - at_least * times, facts - 1))
            })
    }

    /// Lists the sums that facts give a lowest value.
    fn sums_known(&self) -> Vec<(Sum, i128)> {
        let mut sums = Vec::new();
        let mut say = |above: &Node, below: &Node, least: i128| {
            let mut sum = Sum::default();
            // A term without bounds may stand alone: nothing is added to it, so it was not cut.
            let whole = |node: &Node| is_whole(node, self.spec) && !matches!(node, Node::Negative(_));
            for (node, factor) in [(above, 1), (below, -1)] {
                if whole(node) {
                    match node {
                        Node::Const(Value::Int(int)) => sum.constant += factor * i128::from(*int),
                        _ => sum.add(node, factor),
                    }
                } else if self.gather(node, factor, &mut sum).is_none() || sum.open.is_some() {
                    return;
                }
            }
            sums.push((sum, least));
        };
        for (fact, holds) in self.facts.borrow().iter() {
            let Node::Binary(said, a, b) = fact else { continue };
            match if *holds { Some(*said) } else { said.opposite() } {
                Some(Operator::Above) => say(a, b, 1),
                Some(Operator::Below) => say(b, a, 1),
                Some(Operator::AtLeast) => say(a, b, 0),
                Some(Operator::AtMost) => say(b, a, 0),
                Some(Operator::Equal) => {
                    say(a, b, 0);
                    say(b, a, 0);
                }
                _ => {}
            }
        }
        sums
    }

    /// Returns the least that a sum can be, by the bounds of its terms.
    fn lowest(&self, sum: &Sum) -> Option<i128> {
        let of = |(node, factor): &(Node, i128)| {
            let (low, high) = self.bounds(node).number();
            let bound = if *factor > 0 { low } else { high };
            (bound.abs() < EXACT).then(|| bound as i128 * factor)
        };
        sum.terms.iter().map(of).try_fold(sum.constant, |sum, term| sum.checked_add(term?))
    }

    /// The terms of a sum of ints that was not cut, each with how often it is added.
    ///
    /// One term may have no bounds. On the greater side: where that sum was cut at the highest int, it is more than all that it is compared
    /// with, and where it was cut at the lowest, it is more than the sum. On the other side it is the other way round.
    fn gather(&self, node: &Node, factor: i128, sum: &mut Sum) -> Option<()> {
        if let Node::Const(Value::Int(int)) = node {
            sum.constant += factor * i128::from(*int);
            return Some(());
        }
        let (low, high) = self.bounds(node).number();
        let bounded = low > -EXACT && high < EXACT;
        if self.is_spent() || !bounded && (factor.abs() != 1 || sum.open.is_some()) || factor.abs() > 1 << 20 {
            return None;
        }
        match node {
            Node::Binary(Operator::Plus, left, right) => {
                self.gather(left, factor, sum)?;
                self.gather(right, factor, sum)?;
            }
            Node::Binary(Operator::Minus, left, right) => {
                self.gather(left, factor, sum)?;
                self.gather(right, -factor, sum)?;
            }
            Node::Binary(Operator::Times, left, right) if bounded => match (&**left, &**right) {
                (Node::Const(Value::Int(times)), of) | (of, Node::Const(Value::Int(times))) => {
                    self.gather(of, factor * i128::from(*times), sum)?;
                }
                _ => return None,
            },
            Node::Negative(inner) if bounded => self.gather(inner, -factor, sum)?,
            _ if is_whole(node, self.spec) => {
                if !bounded {
                    sum.open = Some(node.clone());
                }
                sum.add(node, factor);
            }
            _ => return None,
        }
        Some(())
    }
}
