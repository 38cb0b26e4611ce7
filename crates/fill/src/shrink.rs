//! A few rows of the same kind as many.

use std::collections::HashSet;

use kampf_schema::expr::RowCount;
use kampf_schema::{Schema, TableId};

use crate::blueprint::Blueprint;
use crate::order::{FillError, Order, Shrink};

/// Rows up to which a table by which no others are counted stays as it is: what is looked up in it has as many kinds then.
const KEPT: u64 = 100;
/// So often other row counts are tried.
const TRIES: usize = 12;

impl Blueprint {
    /// All rows together.
    pub fn all_rows(&self) -> u64 {
        self.tables.iter().map(|table| table.rows).sum()
    }

    /// A plan by the same order with about `most` rows, where this one has more. Tables whose rows are counted by themselves get fewer, never
    /// less than one; those that are counted by a parent have as many for each, as long as that leads anywhere. Tables of at most 100 rows by
    /// which no others are counted, and rows of the schema's file, stay.
    ///
    /// # Errors
    /// Rules that cannot be met with fewer rows.
    pub fn twin(&self, schema: &Schema, order: &Order, most: u64) -> Result<Blueprint, FillError> {
        let counted_by: HashSet<TableId> = self
            .counts
            .iter()
            .filter_map(|count| match count {
                RowCount::Per { parent, .. } => schema.find(&parent.text),
                RowCount::Fixed(_) => None,
            })
            .collect();
        let kept = schema.ids().filter(|table| !counted_by.contains(table) && self.rows(*table) <= KEPT).collect();
        let mut shrink = Shrink { parents: 1.0, children: 1.0, kept };
        let (mut rows, mut twin) = (self.all_rows(), self.clone());
        let mut fewer_children = false;
        for _ in 0..TRIES {
            // About so many are enough.
            if rows <= most + most / 4 {
                break;
            }
            let left = most as f64 / rows as f64;
            let part = if fewer_children { &mut shrink.children } else { &mut shrink.parents };
            *part *= left;
            twin = Blueprint::new(schema, &Order { shrink: Some(shrink.clone()), ..order.clone() })?;
            let now = twin.all_rows();
            // Fewer parents do not help where each has so many.
            fewer_children = now as f64 > 0.8 * rows as f64;
            rows = now;
        }
        Ok(twin)
    }
}

#[cfg(test)]
mod tests {
    use kampf_schema::ddl;
    use kampf_schema::expr::read_row_count;

    use super::*;

    /// The rows of the named tables as they are ordered, and in the twin.
    fn twin_of(ddl: &str, counts: &[(&str, &str)], most: u64) -> Vec<(u64, u64)> {
        let schema = ddl::read(ddl).unwrap().schema;
        let id = |table: &str| schema.find(table).unwrap();
        let rows = counts.iter().map(|(table, text)| (id(table), read_row_count(text).unwrap())).collect();
        let order = Order { rows, seed: 7, ..Order::default() };
        let whole = Blueprint::new(&schema, &order).unwrap();
        let twin = whole.twin(&schema, &order, most).unwrap();
        counts.iter().map(|(table, _)| (whole.rows(id(table)), twin.rows(id(table)))).collect()
    }

    const HIVES: &str = "CREATE TABLE strain (id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE);
        CREATE TABLE apiary (id INTEGER PRIMARY KEY, name TEXT NOT NULL);
        CREATE TABLE hive (id INTEGER PRIMARY KEY, apiary_id INTEGER NOT NULL REFERENCES apiary, number INTEGER NOT NULL,
          strain_id INTEGER NOT NULL REFERENCES strain, UNIQUE (apiary_id, number));
        CREATE TABLE visit (id INTEGER PRIMARY KEY, hive_id INTEGER NOT NULL REFERENCES hive, note TEXT);";

    #[test]
    fn parents_get_fewer_and_children_of_each_stay_as_many() {
        let counts = [("strain", "12"), ("apiary", "2000"), ("hive", "10..20 per apiary"), ("visit", "20..40 per hive")];
        let rows = twin_of(HIVES, &counts, 20_000);
        assert_eq!(rows[0], (12, 12), "what is looked up stays");
        let all: u64 = rows.iter().map(|(_, twin)| twin).sum();
        assert!((10_000..=25_000).contains(&all), "{rows:?}");
        for (above, below) in [(1, 2), (2, 3)] {
            let each = |of: fn(&(u64, u64)) -> u64| of(&rows[below]) as f64 / of(&rows[above]) as f64;
            assert!((each(|one| one.0) / each(|one| one.1) - 1.0).abs() < 0.1, "{rows:?}");
        }
    }

    #[test]
    fn where_each_parent_has_very_many_they_get_fewer_too() {
        let counts = [("strain", "2"), ("apiary", "2"), ("hive", "1 per apiary"), ("visit", "100000..200000 per hive")];
        let rows = twin_of(HIVES, &counts, 20_000);
        assert!(rows.iter().all(|(_, twin)| *twin > 0), "{rows:?}");
        assert!(rows[3].0 > 100_000 && (5_000..=25_000).contains(&rows[3].1), "{rows:?}");
    }

    #[test]
    fn what_is_small_already_stays_as_it_is() {
        let counts = [("strain", "12"), ("apiary", "20"), ("hive", "10 per apiary"), ("visit", "2 per hive")];
        assert!(twin_of(HIVES, &counts, 20_000).iter().all(|(whole, twin)| whole == twin));
    }

    #[test]
    fn rules_hold_with_fewer_rows_too() {
        // Each pair once: fewer hives than visits of them are only possible where those become fewer too.
        let ddl = "CREATE TABLE hive (id INTEGER PRIMARY KEY);
            CREATE TABLE day (id INTEGER PRIMARY KEY, day DATE NOT NULL UNIQUE);
            CREATE TABLE visit (hive_id INTEGER NOT NULL REFERENCES hive, day_id INTEGER NOT NULL REFERENCES day, PRIMARY KEY (hive_id, day_id));";
        let rows = twin_of(ddl, &[("hive", "5000"), ("day", "300"), ("visit", "600000")], 20_000);
        assert!(rows[2].1 <= rows[0].1 * rows[1].1 && rows[2].1 > 100, "{rows:?}");
    }
}
