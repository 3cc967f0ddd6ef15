//! Page tables, as an executor keeps them between steps.

use crate::executor::{BatchRow, TableChange};

/// For each slot, the pages of its sequence in each pool, in order of position.
#[derive(Default)]
pub struct PageTables {
    slots: Vec<Vec<Vec<u32>>>,
}

impl PageTables {
    /// Changes the tables of a row's slot as the row says.
    ///
    /// # Panics
    /// When more pages stay than there are; in debug builds also when the tables are then not those that the sender has.
    pub fn change(&mut self, row: &BatchRow) {
        if self.slots.len() <= row.slot {
            self.slots.resize_with(row.slot + 1, Vec::new);
        }
        let tables = &mut self.slots[row.slot];
        if tables.len() < row.tables.len() {
            tables.resize_with(row.tables.len(), Vec::new);
        }
        for (table, TableChange { keep, pages }) in tables.iter_mut().zip(&row.tables) {
            assert!(*keep <= table.len(), "{keep} of {} pages stay", table.len());
            table.truncate(*keep);
            table.extend_from_slice(pages);
        }
        if let Some(whole) = row.whole.as_ref().filter(|_| cfg!(debug_assertions)) {
            assert_eq!(tables, whole, "the tables of slot {}", row.slot);
        }
    }

    /// Returns the pages of a slot in a pool.
    ///
    /// # Panics
    /// When there are none.
    pub fn of(&self, slot: usize, pool: usize) -> &[u32] {
        &self.slots[slot][pool]
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::executor::{TableChanges, Want};
    use smallvec::smallvec;

    fn row(slot: usize, tables: TableChanges, whole: Option<Vec<Vec<u32>>>) -> BatchRow {
        BatchRow {
            tokens: [1].as_slice().into(),
            drafts: 0,
            start: 0,
            slot,
            tables,
            whole,
            want: Want::Nothing,
            logprobs: None,
        }
    }

    #[test]
    fn a_table_keeps_its_beginning_and_takes_what_follows() {
        let mut tables = PageTables::default();
        tables.change(&row(1, TableChange::all([vec![5, 6, 7], vec![8]]), None));
        let change = |keep, pages: &[u32]| TableChange {
            keep,
            pages: pages.into(),
        };
        tables.change(&row(1, smallvec![change(2, &[9]), change(1, &[])], None));
        assert_eq!((tables.of(1, 0), tables.of(1, 1)), (&[5, 6, 9][..], &[8][..]));
        // Without a change all stays.
        tables.change(&row(1, TableChanges::new(), Some(vec![vec![5, 6, 9], vec![8]])));
        tables.change(&row(0, TableChange::all([vec![1]]), None));
        assert_eq!((tables.of(0, 0), tables.of(1, 0)), (&[1][..], &[5, 6, 9][..]));
    }

    #[test]
    #[should_panic(expected = "the tables of slot 0")]
    fn tables_that_differ_from_the_senders_are_noticed() {
        let mut tables = PageTables::default();
        tables.change(&row(0, TableChange::all([vec![1, 2]]), Some(vec![vec![1, 3]])));
    }
}
