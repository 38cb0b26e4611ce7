//! The kinds of SQL that schemas are written in.

use serde::{Deserialize, Serialize};
use sqlparser::dialect::{Dialect, GenericDialect, MySqlDialect, PostgreSqlDialect, SQLiteDialect};

/// A kind of SQL.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum SqlDialect {
    /// What all of them understand.
    #[default]
    Standard,
    /// SQLite's.
    Sqlite,
    /// PostgreSQL's.
    Postgres,
    /// MySQL's and MariaDB's.
    Mysql,
}

impl SqlDialect {
    /// All of them.
    pub const ALL: [SqlDialect; 4] = [SqlDialect::Standard, SqlDialect::Sqlite, SqlDialect::Postgres, SqlDialect::Mysql];

    /// The word users write.
    pub fn word(self) -> &'static str {
        match self {
            SqlDialect::Standard => "standard",
            SqlDialect::Sqlite => "sqlite",
            SqlDialect::Postgres => "postgres",
            SqlDialect::Mysql => "mysql",
        }
    }

    /// The dialect of a word; MariaDB's is MySQL's.
    pub fn from_word(word: &str) -> Option<SqlDialect> {
        match word {
            "mariadb" => Some(SqlDialect::Mysql),
            "postgresql" => Some(SqlDialect::Postgres),
            other => SqlDialect::ALL.into_iter().find(|dialect| dialect.word() == other),
        }
    }

    /// The dialect that a file's own words speak for most.
    pub fn of(text: &str) -> SqlDialect {
        let lower = text.to_ascii_lowercase();
        let count = |signs: &[(&str, usize)]| signs.iter().map(|(sign, weight)| lower.matches(sign).count().min(8) * weight).sum::<usize>();
        let mysql = count(&[
            ("auto_increment", 4),
            ("engine=", 4),
            ("engine =", 4),
            ("`", 1),
            ("unsigned", 2),
            ("/*!", 3),
            (" set names ", 3),
            ("tinyint(", 1),
            ("longtext", 1),
            ("\nkey ", 1),
            ("charset", 1),
        ]);
        let postgres = count(&[
            ("serial", 2),
            ("::", 2),
            ("$$", 3),
            ("timestamptz", 3),
            ("with time zone", 2),
            ("without time zone", 3),
            ("nextval(", 4),
            ("create sequence", 3),
            ("alter table only", 4),
            ("bytea", 3),
            ("[]", 3),
            ("jsonb", 3),
            ("character varying", 2),
            ("create type ", 3),
            ("create domain ", 3),
            ("plpgsql", 3),
            ("from stdin", 2),
            ("owner to", 3),
            (" ~ ", 1),
        ]);
        let sqlite = count(&[
            ("autoincrement", 4),
            ("pragma ", 4),
            ("without rowid", 4),
            ("integer primary key", 1),
            ("begin transaction", 1),
            ("sqlite_", 2),
            ("glob ", 1),
        ]);
        match mysql.max(postgres).max(sqlite) {
            0 => SqlDialect::Standard,
            most if most == mysql => SqlDialect::Mysql,
            most if most == postgres => SqlDialect::Postgres,
            _ => SqlDialect::Sqlite,
        }
    }

    pub(super) fn parser(self) -> &'static dyn Dialect {
        match self {
            SqlDialect::Standard => &GenericDialect {},
            SqlDialect::Sqlite => &SQLiteDialect {},
            SqlDialect::Postgres => &PostgreSqlDialect {},
            SqlDialect::Mysql => &MySqlDialect {},
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_file_says_what_it_is_written_in() {
        for (text, dialect) in [
            ("CREATE TABLE t (id INTEGER PRIMARY KEY, n INTEGER)", SqlDialect::Sqlite),
            ("CREATE TABLE t (id INT, n VARCHAR(8))", SqlDialect::Standard),
            ("CREATE TABLE `t` (`id` int(11) NOT NULL AUTO_INCREMENT) ENGINE=InnoDB", SqlDialect::Mysql),
            ("CREATE TABLE t (id SERIAL PRIMARY KEY, at TIMESTAMP WITH TIME ZONE DEFAULT now())", SqlDialect::Postgres),
            ("CREATE TABLE t (id INTEGER PRIMARY KEY, tags TEXT[])", SqlDialect::Postgres),
            ("PRAGMA foreign_keys=OFF; CREATE TABLE [t] (id INTEGER PRIMARY KEY AUTOINCREMENT)", SqlDialect::Sqlite),
        ] {
            assert_eq!(SqlDialect::of(text), dialect, "{text}");
        }
        assert_eq!(SqlDialect::from_word("mariadb"), Some(SqlDialect::Mysql));
    }
}
