//! What the types of columns mean.

use sqlparser::tokenizer::Token;

use super::dialect::SqlDialect;
use super::draft::Meaning;
use super::read::DdlError;
use super::tokens::Tokens;
use crate::model::ColumnForm;
use crate::types::LogicalType;

/// Digits that all engines and drivers keep exactly.
const MOST_DIGITS: u64 = 28;

/// Words that begin what stands behind a column's type.
const OPTIONS: [&str; 27] = [
    "NOT",
    "NULL",
    "DEFAULT",
    "PRIMARY",
    "UNIQUE",
    "KEY",
    "CHECK",
    "REFERENCES",
    "CONSTRAINT",
    "COLLATE",
    "GENERATED",
    "AS",
    "AUTO_INCREMENT",
    "AUTOINCREMENT",
    "COMMENT",
    "ON",
    "CHARSET",
    "IDENTITY",
    "AFTER",
    "FIRST",
    "STORAGE",
    "COMPRESSION",
    "INVISIBLE",
    "VISIBLE",
    "USING",
    "DEFERRABLE",
    "ENCODE",
];

/// Words that go on with a type's name.
const CONTINUED: [&str; 21] = [
    "VARYING",
    "PRECISION",
    "UNSIGNED",
    "SIGNED",
    "ZEROFILL",
    "BINARY",
    "CHARACTER",
    "CHAR",
    "VARCHAR",
    "INT",
    "INTEGER",
    "LARGE",
    "OBJECT",
    "BIG",
    "YEAR",
    "MONTH",
    "DAY",
    "HOUR",
    "MINUTE",
    "SECOND",
    "TO",
];

/// A type as it is written.
struct Written {
    /// Its words in capital letters, one space between them.
    name: String,
    arguments: Vec<Token>,
    unsigned: bool,
    array: bool,
}

/// Reads a type. `named` knows the types that the file itself, or the user, gives a meaning.
pub(super) fn column_type(tokens: &mut Tokens<'_>, named: &dyn Fn(&str) -> Option<Meaning>) -> Result<Meaning, DdlError> {
    let span = tokens.span();
    let written = written(tokens)?;
    let mut meaning = match named(&written.name) {
        Some(meaning) => meaning,
        None => known(&written, tokens.dialect).ok_or_else(|| {
            let mut error = DdlError::new(format!("the type {} is not known", written.name.to_lowercase()), span)
                .hint(format!("say what it means, in kampf.toml: `[types]` and under it `{} = \"text\"`", written.name.to_lowercase()));
            error.unknown_type = Some(written.name.to_lowercase());
            error
        })?,
    };
    if written.array {
        meaning = Meaning { form: ColumnForm::Array(meaning.kind), limits: None, ..Meaning::of(LogicalType::TEXT) };
    }
    Ok(meaning)
}

fn written(tokens: &mut Tokens<'_>) -> Result<Written, DdlError> {
    let mut written = Written { name: String::new(), arguments: Vec::new(), unsigned: false, array: false };
    let begins_option = |tokens: &Tokens<'_>| OPTIONS.contains(&tokens.word_ahead(0).as_str()) || tokens.sees(&["CHARACTER", "SET"]);
    if tokens.is_done() || begins_option(tokens) {
        return Ok(written);
    }
    written.name = tokens.object()?.text.to_ascii_uppercase();
    loop {
        let word = tokens.word_ahead(0);
        if let Some(arguments) = tokens.group() {
            written.arguments = arguments.items().into_iter().map(|mut item| item.next()).collect();
        } else if tokens.symbol(&Token::LBracket) {
            while !tokens.is_done() && tokens.next() != Token::RBracket {}
            written.array = true;
        } else if tokens.takes(&["ARRAY"]) {
            written.array = true;
        } else if tokens.takes(&["WITH", "TIME", "ZONE"])
            || tokens.takes(&["WITHOUT", "TIME", "ZONE"])
            || tokens.takes(&["WITH", "LOCAL", "TIME", "ZONE"])
        {
            // Points in time are UTC here, with or without a zone.
        } else if !word.is_empty() && !begins_option(tokens) && (CONTINUED.contains(&word.as_str()) || tokens.dialect == SqlDialect::Sqlite)
        {
            tokens.next();
            match word.as_str() {
                "UNSIGNED" => written.unsigned = true,
                "SIGNED" | "ZEROFILL" | "BINARY" if !written.name.is_empty() => {}
                _ => {
                    written.name.push(' ');
                    written.name += &word;
                }
            }
        } else {
            return Ok(written);
        }
    }
}

/// The meaning of a type's name by itself, as users give it under `[types]`.
pub(super) fn of_word(word: &str) -> Option<Meaning> {
    known(&Written { name: word.trim().to_ascii_uppercase(), arguments: Vec::new(), unsigned: false, array: false }, SqlDialect::Standard)
}

fn number(written: &Written, at: usize) -> Option<u64> {
    match written.arguments.get(at)? {
        Token::Number(text, _) => text.parse().ok(),
        _ => None,
    }
}

fn known(written: &Written, dialect: SqlDialect) -> Option<Meaning> {
    let text = |form: ColumnForm| Some(Meaning { form, ..Meaning::of(LogicalType::TEXT) });
    let sized = |default: Option<u32>| {
        let length = number(written, 0).map(|length| u32::try_from(length).unwrap_or(u32::MAX).max(1)).or(default);
        Some(Meaning::of(LogicalType::Text { length }))
    };
    let whole = |bits: u32| {
        let half = 1_i64 << (bits - 1);
        let limits = match (bits, written.unsigned) {
            (64, false) => None,
            (64, true) => Some((0, i64::MAX)),
            (_, false) => Some((-half, half - 1)),
            (_, true) => Some((0, 2 * half - 1)),
        };
        Some(Meaning { limits, ..Meaning::of(LogicalType::Integer) })
    };
    let numbered = |meaning: Option<Meaning>| meaning.map(|meaning| Meaning { numbered: true, nullable: false, ..meaning });
    // Always as many bytes, one where nothing is said; or up to so many, where anything is said.
    let bytes = |always: bool| {
        let most = number(written, 0).and_then(|most| i64::try_from(most).ok()).or(always.then_some(1));
        let limits = most.map(|most| (if always { most } else { 0 }, most));
        Some(Meaning { limits, ..Meaning::of(LogicalType::Blob) })
    };
    let words = || {
        written
            .arguments
            .iter()
            .filter_map(|token| match token {
                Token::SingleQuotedString(word) | Token::DoubleQuotedString(word) | Token::EscapedStringLiteral(word) => Some(word.clone()),
                _ => None,
            })
            .collect::<Vec<_>>()
    };
    match written.name.as_str() {
        // SQLite's whole numbers have 64 bits whatever they are called; MySQL's serial has, too.
        "INT" | "INTEGER" if dialect == SqlDialect::Sqlite => whole(64),
        "SERIAL" if dialect == SqlDialect::Mysql => numbered(whole(64)),
        "TINYINT" if number(written, 0) == Some(1) => Some(Meaning::of(LogicalType::Boolean)),
        "BIT" if dialect == SqlDialect::Mysql && number(written, 0).unwrap_or(1) == 1 => Some(Meaning::of(LogicalType::Boolean)),
        "BIT" if dialect == SqlDialect::Mysql => {
            Some(Meaning { limits: Some((0, (1 << number(written, 0).unwrap_or(1).min(62)) - 1)), ..Meaning::of(LogicalType::Integer) })
        }
        "TINYINT" | "INT1" => whole(8),
        "SMALLINT" | "INT2" => whole(16),
        "MEDIUMINT" | "INT3" => whole(24),
        "INT" | "INTEGER" | "INT4" => whole(32),
        "BIGINT" | "INT8" | "LONG" | "BIG INT" => whole(64),
        "OID" | "XID" => Some(Meaning { limits: Some((1, i64::from(i32::MAX))), ..Meaning::of(LogicalType::Integer) }),
        "SMALLSERIAL" | "SERIAL2" => numbered(whole(16)),
        "SERIAL" | "SERIAL4" => numbered(whole(32)),
        "BIGSERIAL" | "SERIAL8" => numbered(whole(64)),
        "YEAR" => Some(Meaning { limits: Some((1901, 2155)), ..Meaning::of(LogicalType::Integer) }),
        "DECIMAL" | "NUMERIC" | "DEC" | "FIXED" | "NUMBER" => Some(decimal(written, dialect)),
        "MONEY" | "SMALLMONEY" => Some(Meaning::of(LogicalType::Decimal { precision: 15, scale: 2 })),
        "REAL" | "FLOAT" | "DOUBLE" | "DOUBLE PRECISION" | "FLOAT4" | "FLOAT8" => Some(Meaning::of(LogicalType::Real)),
        "CHAR" | "CHARACTER" | "NCHAR" | "BPCHAR" | "NATIONAL CHAR" | "NATIONAL CHARACTER" => sized(Some(1)),
        "VARCHAR"
        | "CHARACTER VARYING"
        | "CHAR VARYING"
        | "NVARCHAR"
        | "VARCHAR2"
        | "NVARCHAR2"
        | "NATIONAL VARCHAR"
        | "NATIONAL CHARACTER VARYING"
        | "STRING" => sized(None),
        "TINYTEXT" => sized(Some(255)),
        "TEXT"
        | "MEDIUMTEXT"
        | "LONGTEXT"
        | "CLOB"
        | "NTEXT"
        | "CITEXT"
        | "LONG VARCHAR"
        | "CHARACTER LARGE OBJECT"
        | "HSTORE"
        | "LTREE"
        | "" => text(ColumnForm::Plain),
        "NAME" if dialect != SqlDialect::Sqlite => Some(Meaning::of(LogicalType::Text { length: Some(63) })),
        "BOOLEAN" | "BOOL" => Some(Meaning::of(LogicalType::Boolean)),
        "DATE" => Some(Meaning::of(LogicalType::Date)),
        "TIMESTAMP" | "DATETIME" | "TIMESTAMPTZ" | "DATETIME2" | "SMALLDATETIME" | "ABSTIME" => Some(Meaning::of(LogicalType::Timestamp)),
        "TIME" | "TIMETZ" => text(ColumnForm::Time),
        name if name.starts_with("INTERVAL") => text(ColumnForm::Interval),
        "UUID" | "UNIQUEIDENTIFIER" => Some(Meaning::of(LogicalType::Uuid)),
        "BINARY" | "CHARACTER BYTE" => bytes(true),
        "BLOB" | "BYTEA" | "VARBINARY" | "TINYBLOB" | "MEDIUMBLOB" | "LONGBLOB" | "IMAGE" | "BYTES" | "BINARY LARGE OBJECT" => bytes(false),
        "JSON" | "JSONB" => text(ColumnForm::Json),
        "XML" => text(ColumnForm::Xml),
        "INET" => text(ColumnForm::Address),
        "CIDR" => text(ColumnForm::Network),
        "MACADDR" | "MACADDR8" => text(ColumnForm::MacAddress),
        "BIT" | "BIT VARYING" | "VARBIT" => {
            text(ColumnForm::Bits(number(written, 0).and_then(|bits| u32::try_from(bits).ok()).unwrap_or(u32::from(written.name == "BIT"))))
        }
        "POINT" | "GEOMETRY" | "GEOGRAPHY" | "LINE" | "LSEG" | "BOX" | "PATH" | "POLYGON" | "CIRCLE" | "LINESTRING" | "MULTIPOINT"
        | "MULTILINESTRING" | "MULTIPOLYGON" | "GEOMETRYCOLLECTION" => text(ColumnForm::Point),
        "TSVECTOR" | "TSQUERY" => text(ColumnForm::Search),
        "INT4RANGE" | "INT8RANGE" | "NUMRANGE" | "TSRANGE" | "TSTZRANGE" | "DATERANGE" => text(ColumnForm::Range),
        "ENUM" => Some(Meaning { words: words(), ..Meaning::of(LogicalType::TEXT) }),
        "SET" => Some(Meaning { words: words(), form: ColumnForm::Several, ..Meaning::of(LogicalType::TEXT) }),
        name => {
            let array = name
                .strip_prefix('_')
                .and_then(|name| known(&Written { name: name.to_owned(), arguments: Vec::new(), ..*written }, dialect));
            match (array, dialect) {
                (Some(of), SqlDialect::Postgres) => text(ColumnForm::Array(of.kind)),
                // SQLite takes any name and goes by what is in it (its documentation of datatypes, section 3.1).
                (_, SqlDialect::Sqlite) => Some(by_affinity(written)),
                _ => None,
            }
        }
    }
}

fn by_affinity(written: &Written) -> Meaning {
    let has = |part: &str| written.name.contains(part);
    let length = number(written, 0).and_then(|length| u32::try_from(length).ok()).filter(|&length| length > 0);
    Meaning::of(match () {
        () if has("BOOL") => LogicalType::Boolean,
        () if has("DATETIME") || has("TIMESTAMP") => LogicalType::Timestamp,
        () if has("INT") => LogicalType::Integer,
        () if has("CHAR") || has("CLOB") || has("TEXT") => LogicalType::Text { length },
        () if has("BLOB") => LogicalType::Blob,
        () if has("REAL") || has("FLOA") || has("DOUB") => LogicalType::Real,
        () if has("DATE") => LogicalType::Date,
        () if has("DEC") || has("NUM") || has("PRICE") || has("MONEY") || has("CURRENCY") => return decimal(written, SqlDialect::Sqlite),
        () => LogicalType::TEXT,
    })
}

/// Whole numbers of many digits are kept as 64-bit integers, which all engines compare and sum exactly.
fn decimal(written: &Written, dialect: SqlDialect) -> Meaning {
    let digits = |at: usize| number(written, at).map(|digits| u8::try_from(digits.min(MOST_DIGITS)).unwrap_or(28));
    let unsized_digits = if dialect == SqlDialect::Mysql { (10, 0) } else { (15, 2) };
    let (precision, scale) = match (digits(0), digits(1)) {
        (None, _) => unsized_digits,
        (Some(precision), scale) => (precision.max(1), scale.unwrap_or(0)),
    };
    if scale == 0 && precision > 15 {
        let low = if written.unsigned { 0 } else { -i64::MAX };
        let most = if precision < 19 { 10_i64.pow(u32::from(precision)) - 1 } else { i64::MAX };
        return Meaning { limits: Some((low.max(-most), most)), ..Meaning::of(LogicalType::Integer) };
    }
    Meaning::of(LogicalType::Decimal { precision, scale: scale.min(precision) })
}
