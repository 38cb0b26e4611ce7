//! ALTER TABLE, DROP, RENAME, CREATE TYPE, CREATE DOMAIN and CREATE INDEX.

use sqlparser::tokenizer::Token;

use super::draft::{Condition, Constraint, ConstraintKind, IndexManner, Meaning};
use super::read::{DdlError, Replay};
use super::tokens::{Name, Tokens};
use super::types::column_type;
use crate::types::LogicalType;

impl Replay<'_> {
    /// Behind ALTER TABLE.
    pub(super) fn alter_table(&mut self, tokens: &mut Tokens<'_>) -> Result<(), DdlError> {
        let if_there = tokens.takes(&["IF", "EXISTS"]);
        tokens.takes(&["ONLY"]);
        let name = tokens.object()?;
        let at = match self.table_of(&name) {
            Ok(at) => at,
            // Views and sequences are altered by the same words.
            Err(_) if if_there || tokens.sees(&["OWNER"]) => {
                self.pass_over();
                return Ok(());
            }
            Err(error) => return Err(error),
        };
        tokens.symbol(&Token::Mul);
        for mut action in tokens.items() {
            self.alter(at, &mut action)?;
        }
        Ok(())
    }

    fn alter(&mut self, at: usize, action: &mut Tokens<'_>) -> Result<(), DdlError> {
        let span = action.whole_span();
        match action.word_ahead(0).as_str() {
            "ADD" => {
                action.next();
                if action.takes_any(&["COLUMN"]) {
                    return self.add_column(at, action);
                }
                if let Some(list) = action.group() {
                    for mut item in list.items() {
                        let mut table = self.tables[at].clone();
                        self.item(&mut table, &mut item)?;
                        self.tables[at] = table;
                    }
                    return Ok(());
                }
                if action.sees(&["PARTITION"]) || action.sees(&["TABLE"]) {
                    self.pass_over_part(span);
                    return Ok(());
                }
                if action.sees(&["IF", "NOT", "EXISTS"]) {
                    return self.add_column(at, action);
                }
                let mut table = self.tables[at].clone();
                let columns = table.columns.len();
                self.item(&mut table, action)?;
                self.tables[at] = table;
                if self.tables[at].columns.len() > columns {
                    self.place_column(at, columns, action);
                }
            }
            "DROP" => {
                action.next();
                return self.drop_part(at, action);
            }
            "ALTER" | "MODIFY" | "CHANGE" => return self.change_column(at, action),
            "RENAME" => {
                action.next();
                if action.takes(&["TO"]) || action.takes(&["AS"]) {
                    let new = action.object()?;
                    self.rename_table(at, &new);
                } else if action.takes(&["CONSTRAINT"]) || action.takes_any(&["INDEX", "KEY"]) {
                    let old = action.name()?.text;
                    action.takes(&["TO"]);
                    let new = action.name()?.text;
                    let table = &mut self.tables[at];
                    let place = table.constraints.iter().position(|constraint| {
                        constraint.name.clone().unwrap_or_else(|| table.own_name(constraint)).eq_ignore_ascii_case(&old)
                    });
                    if let Some(place) = place {
                        table.constraints[place].name = Some(new);
                    }
                } else {
                    action.takes(&["COLUMN"]);
                    let old = action.name()?;
                    action.takes(&["TO"]);
                    let new = action.name()?;
                    self.rename_column(at, &old, &new)?;
                }
            }
            // Owners, storage, triggers, partitions, table options.
            _ => self.pass_over_part(span),
        }
        Ok(())
    }

    fn add_column(&mut self, at: usize, action: &mut Tokens<'_>) -> Result<(), DdlError> {
        let if_missing = action.takes(&["IF", "NOT", "EXISTS"]);
        if let Some(list) = action.group() {
            for mut item in list.items() {
                self.add_column(at, &mut item)?;
            }
            return Ok(());
        }
        if if_missing && matches!(action.peek(), Token::Word(word) if self.tables[at].column(&word.value).is_some()) {
            return Ok(());
        }
        let mut table = self.tables[at].clone();
        let place = self.column(&mut table, action)?;
        self.tables[at] = table;
        self.place_column(at, place, action);
        Ok(())
    }

    /// `FIRST` and `AFTER other` at the end of a definition move the column.
    fn place_column(&mut self, at: usize, column: usize, action: &Tokens<'_>) {
        let words: Vec<String> =
            action.whole_text().split_whitespace().rev().take(2).map(|word| word.trim_matches('`').to_owned()).collect();
        let table = &mut self.tables[at];
        let target = match words.as_slice() {
            [last, ..] if last.eq_ignore_ascii_case("first") => Some(0),
            [other, after] if after.eq_ignore_ascii_case("after") => table.column(other).map(|other| other + 1),
            _ => None,
        };
        // Rows without a list of columns were put in before.
        if let Some(target) = target.filter(|_| table.seeds.iter().all(|seeds| seeds.columns.is_some())) {
            let moved = table.columns.remove(column);
            table.columns.insert(target.min(table.columns.len()), moved);
        }
    }

    fn drop_part(&mut self, at: usize, action: &mut Tokens<'_>) -> Result<(), DdlError> {
        let table = &mut self.tables[at];
        if action.takes(&["PRIMARY", "KEY"]) {
            table.constraints.retain(|constraint| !matches!(constraint.kind, ConstraintKind::Primary(_)));
            return Ok(());
        }
        if action.takes(&["FOREIGN", "KEY"]) || action.takes_any(&["CONSTRAINT", "INDEX", "KEY", "CHECK"]) {
            let if_there = action.takes(&["IF", "EXISTS"]);
            let name = action.object()?;
            if !table.drop_constraint(&name.text) && !if_there {
                self.pass_over_part(name.span);
            }
            return Ok(());
        }
        if action.takes(&["PARTITION"]) {
            return Ok(());
        }
        action.takes(&["COLUMN"]);
        let if_there = action.takes(&["IF", "EXISTS"]);
        let name = action.name()?;
        match table.column(&name.text) {
            Some(column) => table.drop_column(column),
            None if if_there => {}
            None => return Err(self.no_column(at, &name)),
        }
        Ok(())
    }

    fn change_column(&mut self, at: usize, action: &mut Tokens<'_>) -> Result<(), DdlError> {
        let how = action.word_ahead(0);
        action.next();
        if how == "ALTER" && (action.takes(&["CONSTRAINT"]) || action.takes(&["INDEX"])) {
            return Ok(());
        }
        action.takes(&["COLUMN"]);
        action.takes(&["IF", "EXISTS"]);
        let name = action.name()?;
        let Some(column) = self.tables[at].column(&name.text) else { return Err(self.no_column(at, &name)) };
        if how == "CHANGE" {
            let new = action.name()?;
            self.rename_column(at, &name, &new)?;
        }
        if how != "ALTER" {
            let named = |word: &str| self.meaning_of(word);
            let meaning = column_type(action, &named);
            let mut table = self.tables[at].clone();
            let changed = &mut table.columns[column];
            (changed.meaning, changed.nullable, changed.default, changed.numbered) = (meaning, true, None, false);
            self.options(&mut table, column, action)?;
            self.tables[at] = table;
            self.place_column(at, column, action);
            return Ok(());
        }
        if action.takes(&["SET", "DATA", "TYPE"]) || action.takes(&["TYPE"]) {
            let named = |word: &str| self.meaning_of(word);
            let meaning = column_type(action, &named);
            self.tables[at].columns[column].meaning = meaning;
            return Ok(());
        }
        let changed = &mut self.tables[at].columns[column];
        if action.takes(&["SET", "NOT", "NULL"]) {
            changed.nullable = false;
        } else if action.takes(&["DROP", "NOT", "NULL"]) {
            changed.nullable = true;
        } else if action.takes(&["SET", "DEFAULT"]) {
            changed.default = Some(action.default_expression()?);
        } else if action.takes(&["DROP", "DEFAULT"]) {
            changed.default = None;
        } else if action.takes(&["ADD", "GENERATED"]) {
            changed.numbered = true;
            changed.nullable = false;
        } else if action.takes(&["DROP", "EXPRESSION"]) {
            changed.computed = None;
        }
        Ok(())
    }

    fn rename_column(&mut self, at: usize, old: &Name, new: &Name) -> Result<(), DdlError> {
        let Some(column) = self.tables[at].column(&old.text) else { return Err(self.no_column(at, old)) };
        let own = self.tables[at].name.text.clone();
        let old_name = self.tables[at].columns[column].name.text.clone();
        self.tables[at].rename_column(column, new);
        for constraint in self.tables.iter_mut().flat_map(|table| &mut table.constraints) {
            if let ConstraintKind::Refers { parent, parent_columns, .. } = &mut constraint.kind
                && parent.text.eq_ignore_ascii_case(&own)
            {
                let same = parent_columns.iter_mut().filter(|column| column.text.eq_ignore_ascii_case(&old_name));
                same.for_each(|column| column.text.clone_from(&new.text));
            }
        }
        Ok(())
    }

    pub(super) fn rename_table(&mut self, at: usize, new: &Name) {
        let old = self.tables.rename(at, new);
        for constraint in self.tables.iter_mut().flat_map(|table| &mut table.constraints) {
            if let ConstraintKind::Refers { parent, .. } = &mut constraint.kind
                && parent.text.eq_ignore_ascii_case(&old.text)
            {
                parent.text.clone_from(&new.text);
            }
        }
    }

    /// Behind RENAME TABLE: `a TO b, c TO d`.
    pub(super) fn rename_tables(&mut self, tokens: &Tokens<'_>) -> Result<(), DdlError> {
        for mut pair in tokens.items() {
            let old = pair.object()?;
            pair.takes(&["TO"]);
            let new = pair.object()?;
            let at = self.table_of(&old)?;
            self.rename_table(at, &new);
        }
        Ok(())
    }

    /// Behind DROP TABLE.
    pub(super) fn drop_tables(&mut self, tokens: &mut Tokens<'_>) -> Result<(), DdlError> {
        let if_there = tokens.takes(&["IF", "EXISTS"]);
        for mut item in tokens.items() {
            let name = item.object()?;
            match self.find(&name.text) {
                Some(at) => {
                    self.tables.remove(at);
                }
                None if if_there => {}
                // A script that begins with what it is about to make anew.
                None => self.pass_over(),
            }
        }
        Ok(())
    }

    /// Behind DROP INDEX.
    pub(super) fn drop_index(&mut self, tokens: &mut Tokens<'_>) -> Result<(), DdlError> {
        tokens.takes(&["CONCURRENTLY"]);
        tokens.takes(&["IF", "EXISTS"]);
        for mut item in tokens.items() {
            let name = item.object()?;
            self.tables.iter_mut().any(|table| table.drop_constraint(&name.text));
        }
        Ok(())
    }

    /// Behind CREATE TYPE: an enumeration; other types stay unknown until a column uses them.
    pub(super) fn create_type(&mut self, tokens: &mut Tokens<'_>) -> Result<(), DdlError> {
        let name = tokens.object()?;
        if tokens.takes(&["AS", "ENUM"])
            && let Some(words) = tokens.group()
        {
            let words = words.items().into_iter().filter_map(|mut item| match item.next() {
                Token::SingleQuotedString(word) | Token::EscapedStringLiteral(word) => Some(word),
                _ => None,
            });
            self.types.push((name.text, Meaning { words: words.collect(), ..Meaning::of(LogicalType::TEXT) }));
        } else {
            self.pass_over();
        }
        Ok(())
    }

    /// Behind ALTER TYPE: `ADD VALUE 'word'`, `RENAME VALUE 'word' TO 'other'`, `RENAME TO name`.
    pub(super) fn alter_type(&mut self, tokens: &mut Tokens<'_>) -> Result<(), DdlError> {
        let name = tokens.object()?;
        if tokens.takes(&["ADD", "VALUE"]) {
            tokens.takes(&["IF", "NOT", "EXISTS"]);
            if let Token::SingleQuotedString(word) = tokens.next() {
                self.change_words(&name.text, |words| words.push(word.clone()));
            }
        } else if tokens.takes(&["RENAME", "VALUE"]) {
            if let Token::SingleQuotedString(old) = tokens.next()
                && tokens.takes(&["TO"])
                && let Token::SingleQuotedString(new) = tokens.next()
            {
                self.change_words(&name.text, |words| words.iter_mut().filter(|word| **word == old).for_each(|word| word.clone_from(&new)));
            }
        } else if tokens.takes(&["RENAME", "TO"]) {
            let new = tokens.name()?;
            let known = self.types.iter_mut().filter(|(known, _)| known.eq_ignore_ascii_case(&name.text));
            known.for_each(|(known, _)| known.clone_from(&new.text));
        } else {
            self.pass_over();
        }
        Ok(())
    }

    /// Changes the words of a type, and those of columns that are of it.
    fn change_words(&mut self, name: &str, change: impl Fn(&mut Vec<String>)) {
        let Some((_, meaning)) = self.types.iter_mut().find(|(known, _)| known.eq_ignore_ascii_case(name)) else { return };
        let before = meaning.words.clone();
        change(&mut meaning.words);
        for column in self.tables.iter_mut().flat_map(|table| &mut table.columns) {
            if let Ok(of) = &mut column.meaning
                && of.words == before
            {
                of.words.clone_from(&meaning.words);
            }
        }
    }

    /// Behind CREATE DOMAIN.
    pub(super) fn create_domain(&mut self, tokens: &mut Tokens<'_>) -> Result<(), DdlError> {
        let name = tokens.object()?;
        tokens.takes(&["AS"]);
        let named = |word: &str| self.meaning_of(word);
        let mut meaning = column_type(tokens, &named)?;
        while !tokens.is_done() {
            if tokens.takes(&["NOT", "NULL"]) {
                meaning.nullable = false;
            } else if tokens.takes(&["NULL"]) {
            } else if tokens.takes(&["DEFAULT"]) {
                meaning.default = Some(tokens.default_expression()?);
            } else if tokens.takes(&["CONSTRAINT"]) || tokens.takes(&["COLLATE"]) {
                tokens.object()?;
            } else if tokens.takes(&["CHECK"]) {
                let check = self.condition(tokens)?;
                meaning.checks.push(check);
            } else {
                return Err(tokens.unexpected("a rule of the domain"));
            }
        }
        self.types.push((name.text, meaning));
        Ok(())
    }

    /// Behind CREATE [UNIQUE] INDEX.
    pub(super) fn create_index(&mut self, tokens: &mut Tokens<'_>, unique: bool) -> Result<(), DdlError> {
        let span = tokens.whole_span();
        tokens.takes(&["CONCURRENTLY"]);
        tokens.takes(&["IF", "NOT", "EXISTS"]);
        let mut name = None;
        if !tokens.sees(&["ON"]) {
            name = Some(tokens.object()?.text);
            if tokens.takes(&["USING"]) {
                tokens.next();
            }
        }
        if !tokens.takes(&["ON"]) {
            return Err(tokens.unexpected("ON and a table"));
        }
        tokens.takes(&["ONLY"]);
        let table = tokens.object()?;
        let at = match self.find(&table.text) {
            Some(at) => at,
            // An index on what was passed over, like a materialised view, has no bearing.
            None if self.is_passed(&table.text) => {
                self.pass_over();
                return Ok(());
            }
            None => return Err(self.no_table(&table, "this index is on")),
        };
        let method = if tokens.takes(&["USING"]) { tokens.next().to_string().to_ascii_lowercase() } else { String::new() };
        let parts = match self.parts(tokens, &mut None) {
            Ok(parts) => parts,
            // How an index is stored may be said in ways that no rule follows from.
            Err(_) if !unique => {
                self.pass_over();
                return Ok(());
            }
            Err(error) => return Err(error),
        };
        let (mut among, mut include) = (None, Vec::new());
        while !tokens.is_done() {
            if tokens.takes(&["WHERE"]) {
                let (span, sql) = (tokens.whole_span(), tokens.text());
                among = Some(Condition { expr: tokens.expression()?, sql, span });
            } else if tokens.takes(&["INCLUDE"]) {
                let columns = tokens.group().map(|columns| columns.items()).unwrap_or_default();
                include = columns.into_iter().map(|mut column| column.name()).collect::<Result<_, _>>()?;
            } else {
                tokens.next();
            }
        }
        let kind = if unique {
            ConstraintKind::Unique(parts, among)
        } else if !matches!(method.as_str(), "" | "btree" | "hash") {
            // An index that is no plain order only makes reading faster.
            self.pass_over();
            return Ok(());
        } else {
            ConstraintKind::Index(parts, IndexManner { hashed: method == "hash", include, among })
        };
        self.tables[at].constraints.push(Constraint { name, kind, span });
        Ok(())
    }
}
