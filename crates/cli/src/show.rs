//! Tables and sentences on a terminal.

use chrono::{DateTime, Local, TimeDelta, Utc};
use ypogeion_core::words;

/// A table with left- and right-aligned columns, as wide as its content.
pub struct Table {
    rows: Vec<Vec<String>>,
    right: &'static [bool],
}

impl Table {
    /// A table with a head; `right` says which columns hold numbers.
    pub fn new(head: &[&str], right: &'static [bool]) -> Self {
        Table { rows: vec![head.iter().map(|h| (*h).to_owned()).collect()], right }
    }

    /// Adds a row.
    pub fn row(&mut self, cells: Vec<String>) {
        self.rows.push(cells);
    }
}

impl std::fmt::Display for Table {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let width = |column: usize| self.rows.iter().map(|r| r[column].chars().count()).max().unwrap_or(0);
        let widths: Vec<usize> = (0..self.rows[0].len()).map(width).collect();
        for row in &self.rows {
            let mut line = String::new();
            for (i, cell) in row.iter().enumerate() {
                let pad = " ".repeat(widths[i] - cell.chars().count());
                line += &if self.right[i] { format!("{pad}{cell}") } else { format!("{cell}{pad}") };
                line += "  ";
            }
            writeln!(f, "{}", line.trim_end())?;
        }
        Ok(())
    }
}

/// A moment as people say it, in their own zone: `20 minutes ago`, or the date when it is long ago.
pub fn ago(at: DateTime<Utc>) -> String {
    let past = Utc::now() - at;
    if past < TimeDelta::minutes(1) {
        "just now".to_owned()
    } else if past < TimeDelta::days(14) {
        format!("{} ago", words::span(past))
    } else {
        at.with_timezone(&Local).format("%-d %B %Y").to_string()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn columns_line_up() {
        let mut table = Table::new(&["Name", "Bytes"], &[false, true]);
        table.row(vec!["Weir".into(), "12".into()]);
        table.row(vec!["Kite festival".into(), "1,234".into()]);
        assert_eq!(table.to_string(), "Name           Bytes\nWeir              12\nKite festival  1,234\n");
    }
}
