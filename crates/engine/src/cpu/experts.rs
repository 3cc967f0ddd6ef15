//! Which expert computes which tokens of a step.

use vastrelay_weights::description::Experts;

/// The tokens of a step on their way to experts and back.
#[derive(Default)]
pub(super) struct ExpertSpace {
    /// The router's logits, `[tokens, experts]`.
    pub logits: Vec<f32>,
    /// For each expert, the tokens that are sent to it, in order, with their shares.
    sent: Vec<Vec<(usize, f32)>>,
    /// The rows of one expert's tokens, side by side.
    pub rows: Vec<f32>,
    /// What the expert makes of them.
    pub out: Vec<f32>,
    order: Vec<usize>,
}

impl ExpertSpace {
    /// Decides from the logits where each token is sent: to those with the highest logits, the first of equals, each with
    /// its share of the softmax over all experts.
    pub fn send(&mut self, rule: &Experts) {
        self.sent.resize(rule.count, Vec::new());
        self.sent.iter_mut().for_each(Vec::clear);
        for (token, logits) in self.logits.chunks_exact(rule.count).enumerate() {
            self.order.clear();
            self.order.extend(0..rule.count);
            self.order.sort_by(|a, b| logits[*b].total_cmp(&logits[*a]));
            let used = &self.order[..rule.used];
            let top = logits[used[0]];
            let part = |expert: usize| (logits[expert] - top).exp();
            let total: f32 = match rule.normalized {
                true => used.iter().map(|expert| part(*expert)).sum(),
                false => (0..rule.count).map(part).sum(),
            };
            for expert in used {
                self.sent[*expert].push((token, part(*expert) / total));
            }
        }
    }

    /// Copies the rows of an expert's tokens side by side, and makes room for what becomes of them.
    pub fn gather(&mut self, expert: usize, x: &[f32], width: usize) {
        self.rows.clear();
        for (token, _) in &self.sent[expert] {
            self.rows.extend_from_slice(&x[token * width..(token + 1) * width]);
        }
        self.out.resize(self.rows.len(), 0.0);
    }

    /// Adds what an expert made of its tokens to their rows. Experts are added in their order, whatever the batch.
    pub fn scatter(&self, expert: usize, to: &mut [f32], width: usize) {
        for ((token, share), out) in self.sent[expert].iter().zip(self.out.chunks_exact(width)) {
            let row = &mut to[token * width..(token + 1) * width];
            row.iter_mut()
                .zip(out)
                .for_each(|(x, out)| *x = share.mul_add(*out, *x));
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use vastrelay_weights::description::ExpertNames;

    fn sent(normalized: bool) -> ExpertSpace {
        let mut space = ExpertSpace {
            logits: vec![0.0, 2.0, 1.0, 2.0, 3.0, 0.0, 0.0, 0.0],
            ..ExpertSpace::default()
        };
        space.send(&Experts {
            count: 4,
            used: 2,
            width: 8,
            normalized,
            names: ExpertNames::default(),
            layers: vec![true],
        });
        space
    }

    #[test]
    fn the_highest_logits_are_taken_and_the_first_of_equals() {
        let space = sent(true);
        let tokens = |expert: usize| space.sent[expert].iter().map(|sent| sent.0).collect::<Vec<_>>();
        assert_eq!(
            [tokens(0), tokens(1), tokens(2), tokens(3)],
            [vec![1], vec![0, 1], vec![], vec![0]]
        );
        assert_eq!(space.sent[1][0].1, 0.5);
    }

    #[test]
    fn shares_are_those_of_all_experts_unless_made_to_sum_to_one() {
        let share = sent(false).sent[0][0].1;
        assert!((share - 1.0 / (1.0 + 3.0 * (-3f32).exp())).abs() < 1e-6);
    }
}
