//! SQL text into its tree, with its places counted in characters.

use sqlparser::ast::{Expr, Query, SetExpr, Spanned, Statement};
use sqlparser::dialect::PostgreSqlDialect;
use sqlparser::keywords::Keyword;
use sqlparser::parser::{Parser, ParserError};
use sqlparser::tokenizer::{Token, TokenWithSpan, Tokenizer};

use crate::finding::{Finding, Span};

/// Characters of an expression or statement.
pub const LONGEST: usize = 20_000;
/// How deep an expression may be nested.
const DEEPEST: usize = 64;

/// A text whose places can be told.
#[derive(Debug, Clone)]
pub struct Text {
    /// The number of characters before each line.
    lines: Vec<usize>,
    length: usize,
}

impl Text {
    /// Of a text.
    #[must_use]
    pub fn of(text: &str) -> Self {
        let mut lines = vec![0];
        let mut length = 0;
        for c in text.chars() {
            length += 1;
            if c == '\n' {
                lines.push(length);
            }
        }
        Self { lines, length }
    }

    fn place(&self, line: u64, column: u64) -> usize {
        let line = usize::try_from(line).unwrap_or(1).max(1) - 1;
        let before = self.lines.get(line).copied().unwrap_or(self.length);
        (before + usize::try_from(column).unwrap_or(1).max(1) - 1).min(self.length)
    }

    /// All of it.
    #[must_use]
    pub fn whole(&self) -> Span {
        Span { from: 0, to: self.length }
    }

    /// Where a part of the tree stands; all of the text where the parser does not say it.
    #[must_use]
    pub fn span(&self, of: &impl Spanned) -> Span {
        self.at(of.span())
    }

    /// Where a span of the parser stands.
    #[must_use]
    pub fn at(&self, span: sqlparser::tokenizer::Span) -> Span {
        if span.start.line == 0 || span.end.line == 0 {
            return self.whole();
        }
        Span { from: self.place(span.start.line, span.start.column), to: self.place(span.end.line, span.end.column) }
    }

    /// A finding of the parser, at its place.
    fn refused(&self, error: &ParserError) -> Finding {
        let text = error.to_string();
        let text = text.strip_prefix("sql parser error: ").unwrap_or(&text);
        let (message, place) = match text.rsplit_once(" at Line: ") {
            Some((message, place)) => (message, place.split_once(", Column: ")),
            None => (text, None),
        };
        let finding = Finding::error(format!("this is not SQL: {}", lower_first(message)));
        let number = |text: &str| text.trim().parse::<u64>().unwrap_or(1);
        match place {
            Some((line, column)) => {
                let from = self.place(number(line), number(column));
                finding.at(Span { from, to: (from + 1).min(self.length.max(from)) })
            }
            None if text.contains("recursion limit") => {
                Finding::error(format!("the expression is nested more than {DEEPEST} deep")).suggest("split it into steps")
            }
            None if text.contains("EOF") => {
                finding.at(Span { from: self.length, to: self.length }).suggest("it ends too early")
            }
            None => finding.at(self.whole()),
        }
    }
}

fn lower_first(text: &str) -> String {
    let mut chars = text.chars();
    chars.next().map(|c| c.to_lowercase().chain(chars).collect()).unwrap_or_default()
}

fn parser(text: &str, at: &Text) -> Result<Parser<'static>, Finding> {
    const DIALECT: PostgreSqlDialect = PostgreSqlDialect {};
    if at.length > LONGEST {
        return Err(Finding::error(format!("the text has {} characters: at most {LONGEST} can be read", at.length)));
    }
    let tokens = Tokenizer::new(&DIALECT, text).tokenize_with_location().map_err(|e| at.refused(&e.into()))?;
    Ok(Parser::new(&DIALECT).with_recursion_limit(DEEPEST).with_tokens_with_locations(of_one_rank(tokens)))
}

/// Operators that bind as tightly as all that have no place of their own in PostgreSQL (its documentation, table 4.2), where the parser
/// would have some of them bind more tightly than others.
fn of_one_rank(mut tokens: Vec<TokenWithSpan>) -> Vec<TokenWithSpan> {
    let mut after_value = false;
    for token in &mut tokens {
        let name = match &token.token {
            Token::Pipe => Some("|"),
            Token::Ampersand => Some("&"),
            // before a value it is an operator of that value alone
            Token::Tilde if after_value => Some("~"),
            Token::TildeAsterisk => Some("~*"),
            Token::ExclamationMarkTilde => Some("!~"),
            Token::ExclamationMarkTildeAsterisk => Some("!~*"),
            _ => None,
        };
        after_value = match &token.token {
            Token::Whitespace(_) => after_value,
            Token::Word(word) => {
                word.quote_style.is_some() || word.keyword == Keyword::NoKeyword || !comes_before_value(word.keyword)
            }
            Token::Number(..)
            | Token::SingleQuotedString(_)
            | Token::EscapedStringLiteral(_)
            | Token::DollarQuotedString(_)
            | Token::UnicodeStringLiteral(_)
            | Token::RParen
            | Token::RBracket => true,
            _ => false,
        };
        if let Some(name) = name {
            token.token = Token::CustomBinaryOperator(name.into());
        }
    }
    tokens
}

/// Words that a value follows.
fn comes_before_value(keyword: Keyword) -> bool {
    use Keyword as K;
    matches!(
        keyword,
        K::AND
            | K::OR
            | K::NOT
            | K::CASE
            | K::WHEN
            | K::THEN
            | K::ELSE
            | K::BETWEEN
            | K::LIKE
            | K::ILIKE
            | K::IN
            | K::FROM
            | K::SELECT
            | K::WHERE
            | K::DISTINCT
            | K::ESCAPE
            | K::FOR
    )
}

fn end(parser: &Parser<'_>, at: &Text) -> Result<(), Finding> {
    let next = parser.peek_token();
    if next.token == Token::EOF {
        return Ok(());
    }
    Err(Finding::error(format!("{} is left over", next.token)).at(at.at(next.span)).suggest("write one expression"))
}

/// An expression.
///
/// # Errors
/// What is wrong, and where.
pub fn expression(text: &str) -> Result<(Expr, Text), Finding> {
    let at = Text::of(text);
    if text.trim().is_empty() {
        return Err(Finding::error("an expression is missing").suggest("write one, such as weight_kg * 2"));
    }
    let mut parser = parser(text, &at)?;
    let found = parser.parse_expr().map_err(|e| at.refused(&e))?;
    end(&parser, &at)?;
    Ok((found, at))
}

/// A `SELECT` statement's body.
///
/// # Errors
/// What is wrong, and where.
pub fn select(text: &str) -> Result<(sqlparser::ast::Select, Text), Finding> {
    let at = Text::of(text);
    let mut parser = parser(text, &at)?;
    let wanted = || "write SELECT … FROM input WHERE …";
    let statement = parser.parse_statement().map_err(|e| at.refused(&e))?;
    let _ = parser.consume_token(&Token::SemiColon);
    end(&parser, &at)?;
    let Statement::Query(query) = statement else {
        return Err(Finding::error("this is not a SELECT").at(at.whole()).suggest(wanted()));
    };
    let Query { with, body, order_by, limit_clause, fetch, locks, .. } = *query;
    if with.is_some() || order_by.is_some() || limit_clause.is_some() || fetch.is_some() || !locks.is_empty() {
        let finding = "a step sees one row at a time: WITH, ORDER BY and LIMIT cannot be used";
        return Err(Finding::error(finding).at(at.whole()).suggest(wanted()));
    }
    match *body {
        SetExpr::Select(select) => Ok((*select, at)),
        _ => Err(Finding::error("only one SELECT can be used").at(at.whole()).suggest(wanted())),
    }
}

/// Words that PostgreSQL takes as names only in quotes (its documentation, appendix C: all but those that are not reserved).
const RESERVED: &[&str] = &[
    "all",
    "analyse",
    "analyze",
    "and",
    "any",
    "array",
    "as",
    "asc",
    "asymmetric",
    "authorization",
    "between",
    "bigint",
    "binary",
    "bit",
    "boolean",
    "both",
    "case",
    "cast",
    "char",
    "character",
    "check",
    "coalesce",
    "collate",
    "collation",
    "column",
    "concurrently",
    "constraint",
    "create",
    "cross",
    "current_catalog",
    "current_date",
    "current_role",
    "current_schema",
    "current_time",
    "current_timestamp",
    "current_user",
    "dec",
    "decimal",
    "default",
    "deferrable",
    "desc",
    "distinct",
    "do",
    "else",
    "end",
    "except",
    "exists",
    "extract",
    "false",
    "fetch",
    "float",
    "for",
    "foreign",
    "freeze",
    "from",
    "full",
    "grant",
    "greatest",
    "group",
    "grouping",
    "having",
    "ilike",
    "in",
    "initially",
    "inner",
    "inout",
    "int",
    "integer",
    "intersect",
    "interval",
    "into",
    "is",
    "isnull",
    "join",
    "lateral",
    "leading",
    "least",
    "left",
    "like",
    "limit",
    "localtime",
    "localtimestamp",
    "national",
    "natural",
    "nchar",
    "none",
    "normalize",
    "not",
    "notnull",
    "null",
    "nullif",
    "numeric",
    "offset",
    "on",
    "only",
    "or",
    "order",
    "out",
    "outer",
    "overlaps",
    "overlay",
    "placing",
    "position",
    "precision",
    "primary",
    "real",
    "references",
    "returning",
    "right",
    "row",
    "select",
    "session_user",
    "setof",
    "similar",
    "smallint",
    "some",
    "substring",
    "symmetric",
    "table",
    "tablesample",
    "then",
    "time",
    "timestamp",
    "to",
    "trailing",
    "treat",
    "trim",
    "true",
    "union",
    "unique",
    "user",
    "using",
    "values",
    "varchar",
    "variadic",
    "verbose",
    "when",
    "where",
    "window",
    "with",
    "xmlattributes",
    "xmlconcat",
    "xmlelement",
    "xmlexists",
    "xmlforest",
    "xmlnamespaces",
    "xmlparse",
    "xmlpi",
    "xmlroot",
    "xmlserialize",
    "xmltable",
];

/// A name as SQL has to write it.
#[must_use]
pub fn name(column: &str) -> String {
    let plain = column.starts_with(|c: char| c.is_ascii_lowercase() || c == '_')
        && column.chars().all(|c| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '_')
        && RESERVED.binary_search(&column).is_err();
    if plain { column.to_owned() } else { format!("\"{}\"", column.replace('"', "\"\"")) }
}

/// A text as a constant of SQL.
#[must_use]
pub fn constant(text: &str) -> String {
    format!("'{}'", text.replace('\'', "''"))
}
