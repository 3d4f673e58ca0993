use std::io::{self, Write};

use comfy_table::presets::NOTHING;
use comfy_table::{CellAlignment, ContentArrangement, Table};
use serde::Serialize;

use super::clean::clean_line;

/// A column: its title, and what it shows of a row.
pub(crate) struct Column<R> {
    title: &'static str,
    cell: fn(&R) -> String,
    is_number: bool,
}

impl<R> Column<R> {
    /// Text, to the left.
    pub(crate) fn text(title: &'static str, cell: fn(&R) -> String) -> Self {
        Self { title, cell, is_number: false }
    }

    /// A number, to the right.
    pub(crate) fn number(title: &'static str, cell: fn(&R) -> String) -> Self {
        Self { title, cell, is_number: true }
    }
}

/// Where answers go, and in which form.
pub(crate) struct Report<'a> {
    pub(crate) out: &'a mut dyn Write,
    pub(crate) json: bool,
}

impl Report<'_> {
    /// Shows rows as a table, or the whole answer as JSON.
    pub(crate) fn rows<R>(
        &mut self,
        answer: &impl Serialize,
        rows: &[R],
        columns: &[Column<R>],
        empty: &str,
    ) -> io::Result<()> {
        if self.json {
            return self.value(answer);
        }
        if rows.is_empty() {
            return writeln!(self.out, "{empty}");
        }
        self.table(rows, columns)
    }

    /// Shows a table, whatever the form.
    pub(crate) fn table<R>(&mut self, rows: &[R], columns: &[Column<R>]) -> io::Result<()> {
        let mut table = Table::new();
        table.load_style(NOTHING).set_content_arrangement(ContentArrangement::Disabled);
        table.set_header(columns.iter().map(|column| column.title.to_uppercase()));
        for row in rows {
            table.add_row(columns.iter().map(|column| clean_line(&(column.cell)(row))));
        }
        for (at, column) in columns.iter().enumerate() {
            if let Some(place) = table.column_mut(at) {
                place.set_padding((0, 2));
                if column.is_number {
                    place.set_cell_alignment(CellAlignment::Right);
                }
            }
        }
        for line in table.lines() {
            writeln!(self.out, "{}", line.trim_end())?;
        }
        Ok(())
    }

    /// Shows a line of text.
    pub(crate) fn line(&mut self, text: &str) -> io::Result<()> {
        writeln!(self.out, "{text}")
    }

    /// Shows a sentence, or the answer as JSON.
    pub(crate) fn done(&mut self, answer: &impl Serialize, sentence: &str) -> io::Result<()> {
        if self.json { self.value(answer) } else { writeln!(self.out, "{sentence}") }
    }

    /// Shows the answer as JSON.
    pub(crate) fn value(&mut self, answer: &impl Serialize) -> io::Result<()> {
        writeln!(self.out, "{}", serde_json::to_string_pretty(answer).unwrap_or_default())
    }
}
