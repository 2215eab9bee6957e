//! The text of a condition to its syntax tree. Always yields a tree; what could not be read is an
//! [`ExprKind::Error`] in it and a finding beside it.

use crate::source::{Finding, Span};
use crate::value::{MAX_MEMBERS, MAX_TEXT_BYTES, Scalar};

/// Deepest tree of one condition, named conditions inlined.
pub const MAX_NESTING: usize = 32;
/// Longest text of one condition, in bytes.
pub const MAX_CONDITION_BYTES: usize = 64 << 10;

/// A node and where it stands.
#[derive(Clone, Debug, PartialEq)]
pub struct Expr {
    /// What it is.
    pub kind: ExprKind,
    /// Its place.
    pub span: Span,
}

/// The shapes of the language.
#[derive(Clone, Debug, PartialEq)]
pub enum ExprKind {
    /// What stood here could not be read; a finding says why.
    Error,
    /// `'text'`, `12`, `3.5`, `true`.
    Literal(Scalar),
    /// `[…]`.
    List(Vec<Expr>),
    /// `resource.within.agent`, as its names.
    Path(Vec<(String, Span)>),
    /// `known(…)`.
    Call(String, Span, Vec<Expr>),
    /// `not …`.
    Not(Box<Expr>),
    /// `… and …`, as long as the chain is.
    All(Vec<Expr>),
    /// `… or …`, as long as the chain is.
    Any(Vec<Expr>),
    /// Two operands.
    Binary(Operator, Box<Expr>, Box<Expr>),
}

/// Operators between two operands.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Operator {
    /// `==`
    Equal,
    /// `!=`
    NotEqual,
    /// `<`
    Less,
    /// `<=`
    AtMost,
    /// `>`
    Greater,
    /// `>=`
    AtLeast,
    /// `in`
    In,
    /// `not in`
    NotIn,
    /// `overlaps`
    Overlaps,
    /// `+`
    Plus,
    /// `-`
    Minus,
}

impl Operator {
    /// As it is written.
    pub fn text(self) -> &'static str {
        match self {
            Operator::Equal => "==",
            Operator::NotEqual => "!=",
            Operator::Less => "<",
            Operator::AtMost => "<=",
            Operator::Greater => ">",
            Operator::AtLeast => ">=",
            Operator::In => "in",
            Operator::NotIn => "not in",
            Operator::Overlaps => "overlaps",
            Operator::Plus => "+",
            Operator::Minus => "-",
        }
    }
}

#[derive(Clone, Debug, PartialEq)]
enum Token {
    Name(String),
    Text(String),
    Number(String),
    Mark(&'static str),
    End,
}

impl Token {
    fn shown(&self) -> String {
        match self {
            Token::Name(name) => format!("{name:?}"),
            Token::Text(_) => "a text".to_owned(),
            Token::Number(digits) => digits.clone(),
            Token::Mark(mark) => format!("\"{mark}\""),
            Token::End => "the end of the condition".to_owned(),
        }
    }
}

/// Where a condition's text stands: `span` covers it in the file. `exact` says that the bytes of
/// the file are the condition's own, so that a place inside it can be named.
#[derive(Clone, Copy, Debug)]
pub struct Origin {
    /// The text, without its quotes.
    pub span: Span,
    /// Whether offsets carry over.
    pub exact: bool,
}

impl Origin {
    fn span(self, start: usize, end: usize) -> Span {
        if !self.exact {
            return self.span;
        }
        let base = self.span.start as usize;
        Span::new(self.span.file, base + start..base + end)
    }
}

/// Reads one condition.
pub fn parse(text: &str, origin: Origin, findings: &mut Vec<Finding>) -> Expr {
    if text.len() > MAX_CONDITION_BYTES {
        let message = format!("a condition has at most {MAX_CONDITION_BYTES} bytes");
        findings.push(Finding::error("over-a-bound", origin.span, message));
        return Expr { kind: ExprKind::Error, span: origin.span };
    }
    let tokens = lex(text, origin, findings);
    let mut parser = Parser { tokens, at: 0, depth: 0, findings, silent: false };
    let tree = parser.or();
    if parser.peek() != &Token::End {
        parser.unexpected("and, or, or the end of the condition");
    }
    tree
}

fn lex(text: &str, origin: Origin, findings: &mut Vec<Finding>) -> Vec<(Token, Span)> {
    let bytes = text.as_bytes();
    let mut tokens = Vec::new();
    let mut at = 0;
    let run =
        |from: usize, is: fn(u8) -> bool| from + bytes[from..].iter().take_while(|byte| is(**byte)).count();
    while at < bytes.len() {
        let start = at;
        let token = match bytes[at] {
            b' ' | b'\t' | b'\n' | b'\r' => {
                at += 1;
                continue;
            }
            b'a'..=b'z' => {
                at = run(at, |b| b.is_ascii_lowercase() || b.is_ascii_digit() || b == b'-');
                Token::Name(text[start..at].to_owned())
            }
            b'0'..=b'9' => {
                at = run(at, |b| b.is_ascii_digit());
                if bytes.get(at) == Some(&b'.') && bytes.get(at + 1).is_some_and(u8::is_ascii_digit) {
                    at = run(at + 1, |b| b.is_ascii_digit());
                }
                Token::Number(text[start..at].to_owned())
            }
            b'\'' => {
                let (token, end) = lex_text(text, at, origin, findings);
                at = end;
                token
            }
            _ => {
                let two = text.get(at..at + 2).unwrap_or("");
                let one = text.get(at..at + 1).unwrap_or("");
                let marks = ["==", "!=", "<=", ">=", "<", ">", "+", "-", "(", ")", "[", "]", ",", "."];
                if let Some(mark) = marks.iter().find(|mark| **mark == two || **mark == one) {
                    at += mark.len();
                    Token::Mark(mark)
                } else {
                    let (token, end) = lex_stray(text, at, origin, findings);
                    at = end;
                    match token {
                        Some(token) => token,
                        None => continue,
                    }
                }
            }
        };
        tokens.push((token, origin.span(start, at)));
    }
    tokens.push((Token::End, origin.span(text.len(), text.len())));
    tokens
}

fn lex_text(text: &str, start: usize, origin: Origin, findings: &mut Vec<Finding>) -> (Token, usize) {
    let mut value = String::new();
    let mut at = start + 1;
    loop {
        let Some(quote) = text[at..].find('\'') else {
            let span = origin.span(start, text.len());
            findings.push(
                Finding::error("syntax", span, "this text has no end")
                    .help("close it with '; a quote inside a text is doubled: 'it''s'"),
            );
            return (Token::Text(value), text.len());
        };
        value.push_str(&text[at..at + quote]);
        at += quote + 1;
        if !text[at..].starts_with('\'') {
            break;
        }
        value.push('\'');
        at += 1;
    }
    if value.len() > MAX_TEXT_BYTES {
        let message = format!("a text has at most {MAX_TEXT_BYTES} bytes");
        findings.push(Finding::error("over-a-bound", origin.span(start, at), message));
    }
    (Token::Text(value), at)
}

/// A character the language has no use for: says what to write instead, and reads on as if that
/// had been written, so that the other mistakes are found as well.
fn lex_stray(
    text: &str,
    start: usize,
    origin: Origin,
    findings: &mut Vec<Finding>,
) -> (Option<Token>, usize) {
    let two = text.get(start..start + 2).unwrap_or("");
    let word = |word: &str| Some(Token::Name(word.to_owned()));
    let (meant, length, help) = match text[start..].chars().next() {
        Some('&') => (word("and"), if two == "&&" { 2 } else { 1 }, "write and"),
        Some('|') => (word("or"), if two == "||" { 2 } else { 1 }, "write or"),
        Some('!') => (word("not"), 1, "write not, or != to compare"),
        Some('=') => (Some(Token::Mark("==")), 1, "write == to compare"),
        Some('"') => (None, 1, "texts stand in single quotes: 'quay'"),
        Some('A'..='Z') => (None, 1, "names are lower case; a text stands in single quotes"),
        Some(c) => (None, c.len_utf8(), "this character has no meaning in a condition"),
        None => (None, 1, ""),
    };
    let end = (start + length).min(text.len());
    let message = format!("unexpected {:?}", &text[start..end]);
    findings.push(Finding::error("syntax", origin.span(start, end), message).help(help));
    (meant, end.max(start + 1))
}

struct Parser<'f> {
    tokens: Vec<(Token, Span)>,
    at: usize,
    depth: usize,
    findings: &'f mut Vec<Finding>,
    /// One mistake leads to others that nobody made; only the first is told.
    silent: bool,
}

impl Parser<'_> {
    fn peek(&self) -> &Token {
        &self.tokens[self.at].0
    }

    fn span(&self) -> Span {
        self.tokens[self.at].1
    }

    fn advance(&mut self) -> (Token, Span) {
        let token = self.tokens[self.at].clone();
        if self.at + 1 < self.tokens.len() {
            self.at += 1;
        }
        token
    }

    fn mark(&mut self, mark: &str) -> bool {
        let is = matches!(self.peek(), Token::Mark(found) if *found == mark);
        if is {
            self.advance();
        }
        is
    }

    fn word(&mut self, word: &str) -> bool {
        let is = matches!(self.peek(), Token::Name(found) if found == word);
        if is {
            self.advance();
        }
        is
    }

    fn error(&mut self, span: Span, message: String, help: &str) {
        if !self.silent {
            let mut finding = Finding::error("syntax", span, message);
            if !help.is_empty() {
                finding = finding.help(help);
            }
            self.findings.push(finding);
            self.silent = true;
        }
    }

    fn unexpected(&mut self, wanted: &str) -> Expr {
        let span = self.span();
        let found = self.peek().shown();
        self.error(span, format!("expected {wanted}, found {found}"), "");
        Expr { kind: ExprKind::Error, span }
    }

    /// Runs a rule one level down; too deep a nesting is an error, not a crash.
    fn nested(&mut self, rule: fn(&mut Self) -> Expr) -> Expr {
        // Parentheses add no depth to the tree, but the parser's own stack has a floor as well.
        const MAX_PARSE_DEPTH: usize = 4 * MAX_NESTING;
        if self.depth >= MAX_PARSE_DEPTH {
            let span = self.span();
            self.error(span, format!("nested deeper than {MAX_NESTING}"), "split off a [condition]");
            self.at = self.tokens.len() - 1;
            return Expr { kind: ExprKind::Error, span };
        }
        self.depth += 1;
        let tree = rule(self);
        self.depth -= 1;
        tree
    }

    fn binary(operator: Operator, left: Expr, right: Expr) -> Expr {
        let span = left.span.to(right.span);
        Expr { kind: ExprKind::Binary(operator, Box::new(left), Box::new(right)), span }
    }

    fn or(&mut self) -> Expr {
        self.chain("or", Self::and, ExprKind::Any)
    }

    fn and(&mut self) -> Expr {
        self.chain("and", Self::not, ExprKind::All)
    }

    /// One or more of a rule with a word between them. A chain is one node: reading it aloud
    /// nests nothing, so its length does not count as depth.
    fn chain(&mut self, word: &str, rule: fn(&mut Self) -> Expr, node: fn(Vec<Expr>) -> ExprKind) -> Expr {
        let first = rule(self);
        if !self.word(word) {
            return first;
        }
        let mut parts = vec![first, rule(self)];
        while self.word(word) {
            parts.push(rule(self));
        }
        let span = parts[0].span.to(parts[parts.len() - 1].span);
        Expr { kind: node(parts), span }
    }

    fn not(&mut self) -> Expr {
        let start = self.span();
        if !self.word("not") {
            return self.comparison();
        }
        let inner = self.nested(Self::not);
        let span = start.to(inner.span);
        Expr { kind: ExprKind::Not(Box::new(inner)), span }
    }

    fn comparison(&mut self) -> Expr {
        let left = self.sum();
        let Some(operator) = self.opt_comparator() else { return left };
        let right = self.sum();
        let span = self.span();
        if self.opt_comparator().is_some() {
            let finding = Finding::error("syntax", span, "comparisons are not chained");
            self.findings.push(finding.help("write a < b and b < c"));
            self.sum();
        }
        Self::binary(operator, left, right)
    }

    fn opt_comparator(&mut self) -> Option<Operator> {
        let operator = match self.peek() {
            Token::Mark("==") => Operator::Equal,
            Token::Mark("!=") => Operator::NotEqual,
            Token::Mark("<") => Operator::Less,
            Token::Mark("<=") => Operator::AtMost,
            Token::Mark(">") => Operator::Greater,
            Token::Mark(">=") => Operator::AtLeast,
            Token::Name(name) if name == "in" => Operator::In,
            Token::Name(name) if name == "overlaps" => Operator::Overlaps,
            Token::Name(name) if name == "not" => {
                let next = self.tokens.get(self.at + 1).map(|(token, _)| token);
                if !matches!(next, Some(Token::Name(name)) if name == "in") {
                    return None;
                }
                self.advance();
                Operator::NotIn
            }
            _ => return None,
        };
        self.advance();
        Some(operator)
    }

    fn sum(&mut self) -> Expr {
        let mut left = self.operand();
        for length in 0.. {
            if length > MAX_NESTING {
                let span = self.span();
                self.error(span, format!("more than {MAX_NESTING} terms in one sum"), "");
                self.at = self.tokens.len() - 1;
            }
            let operator = if self.mark("+") {
                Operator::Plus
            } else if self.mark("-") {
                Operator::Minus
            } else {
                break;
            };
            let right = self.operand();
            left = Self::binary(operator, left, right);
        }
        left
    }

    fn operand(&mut self) -> Expr {
        let start = self.span();
        match self.peek().clone() {
            Token::Mark("(") => {
                self.advance();
                let mut inner = self.nested(Self::or);
                inner.span = start.to(self.span());
                if !self.mark(")") {
                    self.unexpected("\")\"");
                }
                inner
            }
            Token::Mark("[") => self.list(),
            Token::Mark("-") => {
                self.advance();
                match self.advance() {
                    (Token::Number(digits), end) => self.number(format!("-{digits}"), start.to(end)),
                    (_, span) => {
                        self.error(
                            span,
                            "expected a number after \"-\"".to_owned(),
                            "to subtract, write a - b",
                        );
                        Expr { kind: ExprKind::Error, span }
                    }
                }
            }
            Token::Number(digits) => {
                self.advance();
                self.number(digits, start)
            }
            Token::Text(text) => {
                self.advance();
                Expr { kind: ExprKind::Literal(Scalar::Text(text.into())), span: start }
            }
            Token::Name(name) if name == "true" || name == "false" => {
                self.advance();
                Expr { kind: ExprKind::Literal(Scalar::Boolean(name == "true")), span: start }
            }
            Token::Name(name) if !matches!(name.as_str(), "and" | "or" | "not" | "in" | "overlaps") => {
                self.path_or_call(name)
            }
            _ => self.unexpected("a value, a path or a function"),
        }
    }

    fn number(&mut self, digits: String, span: Span) -> Expr {
        // A literal with a point is a decimal even if it is whole: 5.0 is not 5.
        let scalar = if digits.contains('.') {
            crate::value::parse_decimal(&digits).map(Scalar::Decimal)
        } else {
            digits.parse().ok().map(Scalar::Integer)
        };
        let kind = scalar.map_or_else(
            || {
                self.error(
                    span,
                    format!("{digits} is out of range"),
                    "integers have 64 bits, decimals 28 digits",
                );
                ExprKind::Error
            },
            ExprKind::Literal,
        );
        Expr { kind, span }
    }

    fn list(&mut self) -> Expr {
        let start = self.advance().1;
        let mut items = Vec::new();
        while !matches!(self.peek(), Token::Mark("]") | Token::End) {
            items.push(self.nested(Self::or));
            if !self.mark(",") {
                break;
            }
        }
        let span = start.to(self.span());
        if !self.mark("]") {
            self.unexpected("\",\" or \"]\"");
        }
        if items.len() > MAX_MEMBERS {
            self.error(span, format!("a list has at most {MAX_MEMBERS} members"), "");
            items.truncate(MAX_MEMBERS);
        }
        Expr { kind: ExprKind::List(items), span }
    }

    fn path_or_call(&mut self, name: String) -> Expr {
        let start = self.advance().1;
        if self.mark("(") {
            let mut arguments = Vec::new();
            while !matches!(self.peek(), Token::Mark(")") | Token::End) {
                arguments.push(self.nested(Self::or));
                if !self.mark(",") {
                    break;
                }
            }
            let span = start.to(self.span());
            if !self.mark(")") {
                self.unexpected("\",\" or \")\"");
            }
            return Expr { kind: ExprKind::Call(name, start, arguments), span };
        }
        let mut names = vec![(name, start)];
        let mut span = start;
        while self.mark(".") {
            match self.peek().clone() {
                Token::Name(name) => {
                    let place = self.advance().1;
                    span = span.to(place);
                    names.push((name, place));
                }
                _ => {
                    self.unexpected("a name after \".\"");
                    break;
                }
            }
        }
        Expr { kind: ExprKind::Path(names), span }
    }
}
