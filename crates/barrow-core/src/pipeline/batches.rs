//! The batches as they come out of the pipeline, in the order of the files.

use std::time::Duration;

use crate::error::Error;
use crate::pipeline::totals::Totals;
use crate::pipeline::{Encode, Encoded, RowEvaluator, RunContext};
use crate::plan::Plan;
use crate::pool::Ordered;

/// Batches, each after the one before it in the files, and none after a file that could
/// not be read. Dropping it ends the pipeline.
///
/// The pipeline has a fixed number of batches. Keeping more than [`crate::pipeline::Options::waiting`] of
/// them without [giving them back](Batches::give_back) stops it for ever.
pub struct Batches<'o, X> {
    ordered: Ordered<Encoded<X>>,
    in_order: InOrder<'o, X>,
}

impl<'o, X> Batches<'o, X> {
    pub(super) fn new(
        plan: &'o Plan,
        context: &'o RunContext,
        encode: Encode<'o, X>,
        ordered: Ordered<Encoded<X>>,
    ) -> Batches<'o, X> {
        Batches {
            ordered,
            in_order: InOrder {
                plan,
                evaluator: plan.carries().then(|| RowEvaluator::new(plan, context)),
                totals: Totals::default(),
                encode,
            },
        }
    }

    /// Takes back a batch whose room may be used again.
    pub fn give_back(&mut self, batch: Encoded<X>) {
        self.ordered.give_back(batch);
    }

    /// Whether the next one is not there yet after this time. It is not where there is no
    /// next one.
    pub fn is_late(&mut self, patience: Duration) -> bool {
        self.ordered.is_late(patience)
    }
}

impl<X> Iterator for Batches<'_, X> {
    type Item = Result<Encoded<X>, Error>;

    fn next(&mut self) -> Option<Result<Encoded<X>, Error>> {
        let mut result = self.ordered.next()?;
        if let Ok(batch) = &mut result {
            self.in_order.take(batch);
        }
        Some(result)
    }
}

/// What can be done only in the order of the files.
struct InOrder<'o, X> {
    plan: &'o Plan,
    /// Settles rows that carry values from records before them.
    evaluator: Option<RowEvaluator<'o>>,
    totals: Totals,
    encode: Encode<'o, X>,
}

impl<X> InOrder<'_, X> {
    fn take(&mut self, batch: &mut Encoded<X>) {
        if let Some(evaluator) = &mut self.evaluator {
            evaluator.settle(batch);
            batch.pass_over();
            (self.encode)(batch);
        }
        self.totals.take(self.plan, batch);
    }
}
