//! SQL that asks for nothing but counts, sums and the like of one whole table.

/// A function of SQL's that makes one value of many.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Function {
    /// `count`: of rows, or of values that are not null.
    Count,
    /// `sum`.
    Sum,
    /// `total`.
    Total,
    /// `avg`.
    Avg,
    /// `min`.
    Min,
    /// `max`.
    Max,
}

impl Function {
    fn of(word: &str) -> Option<Function> {
        const NAMES: [(&str, Function); 6] = [
            ("count", Function::Count),
            ("sum", Function::Sum),
            ("total", Function::Total),
            ("avg", Function::Avg),
            ("min", Function::Min),
            ("max", Function::Max),
        ];
        let mut names = NAMES.iter();
        let found = names.find(|(name, _)| word.eq_ignore_ascii_case(name));
        found.map(|(_, function)| *function)
    }
}

/// What such SQL asks for.
#[derive(Debug, PartialEq, Eq)]
pub struct Asked {
    /// The table's name, as it was written.
    pub table: String,
    /// Each function and the column that it is of; none stands for `*`.
    pub values: Vec<(Function, Option<String>)>,
}

impl Asked {
    /// `SELECT function(column) [AS name], … FROM table`, and nothing more: any other SQL is
    /// for SQLite. Whether the names are there is not looked at.
    pub fn of(sql: &str) -> Option<Asked> {
        let mut tokens = Tokens { rest: sql };
        tokens.keyword("SELECT")?;
        let mut values = Vec::new();
        loop {
            let Token::Word(function) = tokens.next()? else {
                return None;
            };
            let function = Function::of(function)?;
            tokens.sign('(')?;
            let column = match tokens.next()? {
                Token::Sign('*') if function == Function::Count => None,
                token => Some(token.name()?),
            };
            tokens.sign(')')?;
            values.push((function, column));
            let mut next = tokens.next()?;
            if next.is("AS") {
                tokens.next()?.name()?;
                next = tokens.next()?;
            }
            match next {
                Token::Sign(',') => {}
                other if other.is("FROM") => break,
                _ => return None,
            }
        }
        let table = tokens.next()?.name()?;
        let rest = tokens.rest.trim_ascii();
        (rest.is_empty() || rest == ";").then_some(Asked { table, values })
    }
}

/// Words of SQL with which a sum may be compared, sorted or taken up again.
const USES: [&str; 11] = [
    "HAVING",
    "ORDER",
    "OVER",
    "CASE",
    "DISTINCT",
    "UNION",
    "INTERSECT",
    "EXCEPT",
    "WITH",
    "WINDOW",
    "VALUES",
];

/// Words of SQL that go on with the value before them.
const OPERATORS: [&str; 14] = [
    "IS", "IN", "LIKE", "GLOB", "BETWEEN", "AND", "OR", "NOT", "COLLATE", "ISNULL", "NOTNULL",
    "REGEXP", "MATCH", "OVER",
];

/// Whether SQL only shows its sums: one SELECT, in whose list each `sum(…)` stands alone. Where
/// that cannot be told it is not so.
pub fn shows_sums(sql: &str) -> bool {
    let mut tokens = Tokens { rest: sql };
    let (mut depth, mut selects, mut is_list) = (0usize, 0, false);
    // Whether a value may begin here that is a column of the answer.
    let mut begins = false;
    while let Some(token) = tokens.next() {
        if USES.iter().any(|word| token.is(word)) {
            return false;
        }
        if token.is("SELECT") {
            selects += 1;
            (is_list, begins) = (true, true);
            continue;
        }
        if token.is("FROM") {
            is_list = false;
        }
        if token.is("sum") {
            if !(is_list && begins && depth == 0 && tokens.passes_call()) {
                return false;
            }
            begins = false;
            continue;
        }
        match token {
            Token::Sign('(') => depth += 1,
            Token::Sign(')') => depth = depth.saturating_sub(1),
            _ => {}
        }
        begins = depth == 0 && matches!(token, Token::Sign(','));
    }
    selects == 1
}

/// Words of SQL's that are values, whatever columns there are.
const VALUES: [&str; 4] = ["NULL", "CURRENT_DATE", "CURRENT_TIME", "CURRENT_TIMESTAMP"];

/// A piece of SQL.
#[derive(Debug)]
enum Token<'s> {
    /// A name or a keyword.
    Word(&'s str),
    /// A name in quotes, without them.
    Quoted(String),
    /// Any other character.
    Sign(char),
}

impl Token<'_> {
    /// Whether it is a keyword.
    fn is(&self, keyword: &str) -> bool {
        matches!(self, Token::Word(word) if word.eq_ignore_ascii_case(keyword))
    }

    /// A column's or a table's name.
    fn name(self) -> Option<String> {
        match self {
            Token::Word(word) => {
                let is_value = VALUES.iter().any(|value| word.eq_ignore_ascii_case(value));
                (!is_value).then(|| word.to_string())
            }
            Token::Quoted(name) => Some(name),
            Token::Sign(_) => None,
        }
    }
}

/// The pieces of SQL, one after the other.
struct Tokens<'s> {
    rest: &'s str,
}

impl<'s> Tokens<'s> {
    fn next(&mut self) -> Option<Token<'s>> {
        // Other white space belongs to a name in SQLite.
        let text = self.rest.trim_ascii_start();
        let first = text.chars().next()?;
        let begins_word = |c: char| c.is_ascii_alphabetic() || c == '_' || !c.is_ascii();
        let is_of_word = |c: char| begins_word(c) || c.is_ascii_digit();
        if first == '"' {
            return self.quoted(&text[1..]);
        }
        let length = match begins_word(first) {
            true => text.find(|c| !is_of_word(c)).unwrap_or(text.len()),
            false => first.len_utf8(),
        };
        let (token, rest) = text.split_at(length);
        self.rest = rest;
        Some(match begins_word(first) {
            true => Token::Word(token),
            false => Token::Sign(first),
        })
    }

    /// What stands until the quote that ends it; two quotes are one that does not.
    fn quoted(&mut self, text: &'s str) -> Option<Token<'s>> {
        let mut name = String::new();
        let mut rest = text;
        loop {
            let (piece, after) = rest.split_once('"')?;
            name.push_str(piece);
            let Some(more) = after.strip_prefix('"') else {
                self.rest = after;
                return Some(Token::Quoted(name));
            };
            name.push('"');
            rest = more;
        }
    }

    /// Goes past the arguments of a function, if the value ends with them: a comma, FROM, a
    /// name or the end comes next.
    fn passes_call(&mut self) -> bool {
        if self.sign('(').is_none() {
            return false;
        }
        let mut depth = 1;
        while depth > 0 {
            match self.next() {
                Some(Token::Sign('(')) => depth += 1,
                Some(Token::Sign(')')) => depth -= 1,
                Some(token) if token.is("SELECT") => return false,
                Some(_) => {}
                None => return false,
            }
        }
        let mut ahead = Tokens { rest: self.rest };
        match ahead.next() {
            None | Some(Token::Sign(',' | ';')) | Some(Token::Quoted(_)) => true,
            Some(Token::Sign(_)) => false,
            Some(token) => !OPERATORS.iter().any(|word| token.is(word)),
        }
    }

    fn keyword(&mut self, keyword: &str) -> Option<()> {
        self.next()?.is(keyword).then_some(())
    }

    fn sign(&mut self, sign: char) -> Option<()> {
        matches!(self.next()?, Token::Sign(found) if found == sign).then_some(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn of(column: &str) -> Option<String> {
        Some(column.to_string())
    }

    #[test]
    fn counts_and_sums_of_a_whole_table_are_known() {
        let asked = Asked::of(
            "select COUNT(*), sum( price ) AS \"all, of it\",\n max(\"a \"\"day\"\"\") FROM t ;",
        );
        let asked = asked.unwrap();
        assert_eq!(asked.table, "t");
        let values = [
            (Function::Count, None),
            (Function::Sum, of("price")),
            (Function::Max, of("a \"day\"")),
        ];
        assert_eq!(asked.values, values);
        assert_eq!(
            Asked::of("SELECT avg(größe) FROM \"t t\"").unwrap().table,
            "t t"
        );
    }

    #[test]
    fn white_space_beyond_ascii_is_part_of_a_name() {
        let asked = Asked::of("SELECT sum(\u{3000}price) FROM t").unwrap();
        assert_eq!(asked.values, [(Function::Sum, of("\u{3000}price"))]);
        assert_eq!(Asked::of("SELECT sum(price) FROM t;\u{3000}"), None);
    }

    #[test]
    fn all_else_is_for_sqlite() {
        for sql in [
            "",
            "SELECT",
            "SELECT price FROM t",
            "SELECT sum(price) + 1 FROM t",
            "SELECT sum(price + 1) FROM t",
            "SELECT sum(DISTINCT price) FROM t",
            "SELECT DISTINCT sum(price) FROM t",
            "SELECT sum(*) FROM t",
            "SELECT sum(t.price) FROM t",
            "SELECT sum(price) OVER () FROM t",
            "SELECT sum(price) FILTER (WHERE k > 1) FROM t",
            "SELECT max(a, b) FROM t",
            "SELECT count() FROM t",
            "SELECT count(1) FROM t",
            "SELECT count(null) FROM t",
            "SELECT sum(price) all_of_it FROM t",
            "SELECT sum(price) FROM t WHERE k > 1",
            "SELECT sum(price) FROM t GROUP BY k",
            "SELECT sum(price) FROM t LIMIT 0",
            "SELECT sum(price) FROM t, u",
            "SELECT sum(price) FROM loaded.t",
            "SELECT sum(price) FROM t AS u",
            "SELECT sum(price) FROM (SELECT 1 AS price)",
            "SELECT sum(price) FROM t; SELECT 1",
            "SELECT sum(price) FROM \"t",
            "SELECT sum(price), FROM t",
            "SELECT sum(price) -- all\n FROM t",
            "WITH t AS (SELECT 1 AS price) SELECT sum(price) FROM t",
        ] {
            assert_eq!(Asked::of(sql), None, "{sql}");
        }
    }

    #[test]
    fn sums_that_are_only_shown_are_told_from_others() {
        for sql in [
            "SELECT sum(a) FROM t",
            "SELECT crop, sum(a) AS s, max(b) FROM t WHERE a > 5 GROUP BY crop",
            "SELECT round(x, 2), SUM(a + (b)) total, sum(c) FROM t GROUP BY 1 LIMIT 5;",
            "SELECT sum(a) FILTER (WHERE b > 1) FROM t",
            "SELECT a FROM t",
        ] {
            assert!(shows_sums(sql), "{sql}");
        }
        for sql in [
            "SELECT sum(a) > 5 FROM t",
            "SELECT -sum(a) FROM t",
            "SELECT sum(a) IS NULL FROM t",
            "SELECT 1 + sum(a) FROM t",
            "SELECT crop FROM t GROUP BY crop HAVING sum(a) > 5",
            "SELECT sum(a) AS s FROM t GROUP BY b ORDER BY s",
            "SELECT CASE WHEN sum(a) > 1 THEN 2 END FROM t",
            "SELECT s FROM (SELECT sum(a) AS s FROM t)",
            "SELECT sum(a) OVER () FROM t",
            "SELECT max(sum(a)) FROM t",
            "SELECT coalesce(sum(a), 0) FROM t",
            "WITH c AS (SELECT sum(a) s FROM t) SELECT s FROM c",
            "SELECT DISTINCT sum(a) FROM t",
            "SELECT sum(a) FROM t UNION SELECT 1",
        ] {
            assert!(!shows_sums(sql), "{sql}");
        }
    }
}
