//! `ostrog ask`: may a subject do something? Offline or live, one question or a file of them.

use super::question::{Where, With};
use super::{Global, OutputFormat};
use crate::exit::{Code, Failure, NO, YES};
use crate::shell::{Shell, Tone};
use jiff::Timestamp;
use ostrog_core::decide::take::what_it_would_take;
use ostrog_core::prelude::{Request, World, explain, with_scratch};
use ostrog_core::value::parse_time;
use serde_json::{Map, Value, json};
use std::path::{Path, PathBuf};
use std::time::Duration;

/// How long what it would take is looked for.
const MAX_SEARCH: Duration = Duration::from_millis(20);

/// The command's arguments.
#[derive(Debug, clap::Args)]
pub struct Args {
    /// user:ines, service:crane-feed, anonymous
    #[arg(required_unless_present = "from")]
    subject: Option<String>,
    /// type:action
    #[arg(required_unless_present = "from")]
    permission: Option<String>,
    /// type:id; without one, a new resource
    resource: Option<String>,
    /// Tell every role, rule and condition that took part
    #[arg(long)]
    why: bool,
    /// Read one question a line (NDJSON, AuthZEN shape); answer one a line
    #[arg(long, value_name = "FILE", conflicts_with_all = ["subject", "permission", "resource"])]
    from: Option<PathBuf>,
    #[command(flatten)]
    at: Where,
    #[command(flatten)]
    with: With,
}

pub async fn run(args: Args, global: &Global, shell: &Shell) -> Result<Code, Failure> {
    let now = args.with.moment()?;
    if let Some(file) = &args.from {
        return from_file(file, &args, global, now, shell).await;
    }
    let request = args.with.request(
        args.subject.as_deref().unwrap_or_default(),
        args.permission.as_deref().unwrap_or_default(),
        args.resource.as_deref(),
    )?;
    let explanation = match &args.at.charter {
        Some(_) => {
            let mut world = args.at.world(&args.with, shell)?;
            let now = now.unwrap_or_else(Timestamp::now);
            let mut explanation = offline(&world, &request, now)?;
            if args.why && explanation["allowed"] == false {
                let began = std::time::Instant::now();
                let take =
                    what_it_would_take(&mut world, &request, now, &mut || began.elapsed() < MAX_SEARCH);
                explanation["would-take"] =
                    serde_json::to_value(take.map_err(Failure::input)?).map_err(Failure::input)?;
            }
            explanation
        }
        None => {
            let mut question = args.at.question(&request, &args.with)?;
            question["would-take"] = args.why.into();
            let mut answer = args.at.send("ask", &question, &args.with, global, shell).await?;
            let mut explanation = answer["explanation"].take();
            if answer["would-take"].is_object() {
                explanation["would-take"] = answer["would-take"].take();
            }
            explanation
        }
    };
    let allowed = explanation["allowed"] == true;
    tell(&explanation, &request, args.with.supposed(), args.why, shell);
    Ok(if allowed { YES } else { NO })
}

fn offline(world: &World, request: &Request, now: Timestamp) -> Result<Value, Failure> {
    let asked = request.resolve(world.engine(), now).map_err(Failure::input)?;
    let (_, explanation) = with_scratch(|scratch| explain(world.engine(), &asked, scratch));
    serde_json::to_value(explanation).map_err(Failure::input)
}

// -- many questions ------------------------------------------------------------------------------

fn read(file: &Path) -> Result<String, Failure> {
    let text = if file == Path::new("-") {
        std::io::read_to_string(std::io::stdin())
    } else {
        std::fs::read_to_string(file)
    };
    text.map_err(|error| Failure::input(format!("{}: {error}", file.display())))
}

/// The questions of a file, one a line in the AuthZEN request shape, with their moments.
pub fn questions(file: &Path) -> Result<Vec<(Request, Option<Timestamp>)>, Failure> {
    let text = read(file)?;
    let lines = text.lines().enumerate().filter(|(_, line)| !line.trim().is_empty());
    let question = |(at, line): (usize, &str)| {
        let question = ostrog_core::json::parse(line.as_bytes()).and_then(|question| authzen(&question));
        question.map_err(|message| Failure::input(format!("{}:{}  {message}", file.display(), at + 1)))
    };
    lines.map(question).collect()
}

async fn from_file(
    file: &Path,
    args: &Args,
    global: &Global,
    now: Option<Timestamp>,
    shell: &Shell,
) -> Result<Code, Failure> {
    let text = read(file)?;
    let asker = match &args.at.charter {
        Some(_) => Ok(args.at.world(&args.with, shell)?),
        None => Err(args.with.at_position(global.client()?)),
    };
    let mut all_allowed = true;
    for (at, line) in text.lines().enumerate().filter(|(_, line)| !line.trim().is_empty()) {
        let wrong = |message: String| Failure::input(format!("{}:{}  {message}", file.display(), at + 1));
        let question = ostrog_core::json::parse(line.as_bytes()).map_err(wrong)?;
        let (mut request, moment) = authzen(&question).map_err(wrong)?;
        args.with.fill(&mut request)?;
        let moment = moment.or(now);
        let mut told = match &asker {
            Ok(world) => {
                let moment = moment.unwrap_or_else(Timestamp::now);
                offline(world, &request, moment).map_err(|failure| wrong(failure.message))?
            }
            Err(client) => {
                let mut question = args.at.question(&request, &args.with)?;
                question["now"] = moment.map(|moment| moment.to_string()).into();
                client.post::<Value>("/api/v1/ask", &question).await?["explanation"].take()
            }
        };
        let mut context = json!({ "reason": told["reason"].take() });
        for key in ["message", "advice"] {
            if !told[key].is_null() {
                context[key] = told[key].take();
            }
        }
        all_allowed &= told["allowed"] == true;
        shell.answer(&json!({ "decision": told["allowed"], "context": context }).to_string());
    }
    Ok(if all_allowed { YES } else { NO })
}

/// A question in the AuthZEN request shape, plus `now`.
fn authzen(question: &Value) -> Result<(Request, Option<Timestamp>), String> {
    let part = |name: &str| {
        question.get(name).and_then(Value::as_object).ok_or_else(|| format!("{name} is missing"))
    };
    let text =
        |object: &Map<String, Value>, key: &str| object.get(key).and_then(Value::as_str).map(str::to_owned);
    let (subject, action, resource) = (part("subject")?, part("action")?, part("resource")?);
    let kind = |object: &Map<String, Value>, whose: &str| {
        text(object, "type").ok_or_else(|| format!("the {whose} has no type"))
    };
    let (subject_kind, resource_kind) = (kind(subject, "subject")?, kind(resource, "resource")?);
    let action = text(action, "name").ok_or("the action has no name")?;
    let properties = |object: &Map<String, Value>| {
        object.get("properties").and_then(Value::as_object).cloned().unwrap_or_default()
    };
    let subject_name = match (subject_kind.as_str(), text(subject, "id")) {
        ("anonymous", _) => "anonymous".to_owned(),
        (kind, Some(id)) => format!("{kind}:{id}"),
        (_, None) => return Err("the subject has no id".to_owned()),
    };
    let now = match question.get("now") {
        None => None,
        Some(value) => Some(value.as_str().and_then(parse_time).ok_or("now is no moment")?),
    };
    let request = Request {
        subject: subject_name,
        permission: if action.contains(':') { action } else { format!("{resource_kind}:{action}") },
        resource: text(resource, "id").map(|id| format!("{resource_kind}:{id}")),
        of_subject: properties(subject),
        of_resource: properties(resource),
        context: {
            let mut context = question.get("context").and_then(Value::as_object).cloned().unwrap_or_default();
            context.extend(question.get("session").map(|session| ("session".to_owned(), session.clone())));
            context
        },
    };
    Ok((request, now))
}

// -- telling -------------------------------------------------------------------------------------

fn tell(explanation: &Value, request: &Request, supposed: usize, why: bool, shell: &Shell) {
    if shell.format != OutputFormat::Text {
        shell.answer(&explanation.to_string());
        return;
    }
    let allowed = explanation["allowed"] == true;
    let sentence = explanation["sentence"].as_str().unwrap_or_default();
    let facts = match supposed {
        0 => String::new(),
        1 => "   (supposed: 1 fact)".to_owned(),
        many => format!("   (supposed: {many} facts)"),
    };
    shell.answer(&format!("{}  {sentence}{facts}", shell.verdict(allowed)));
    if why {
        would_take(&explanation["would-take"], shell);
        details(explanation, request, shell);
    }
}

/// What it would take, one way a line.
fn would_take(take: &Value, shell: &Shell) {
    if take.is_null() {
        return;
    }
    for way in list(&take["ways"]) {
        let words: Vec<&str> = list(way).iter().map(|proposal| text(&proposal["words"])).collect();
        shell.answer(&format!("    would take: {}", words.join(", and ")));
    }
    if let Some(rule) = take["denied-by"].as_str() {
        shell.answer(&format!("    the rule {rule} denies it whatever roles are given"));
    } else if list(&take["ways"]).is_empty() {
        let whole =
            if take["exhaustive"] == true { "of what was tried" } else { "of the first changes tried" };
        shell.answer(&format!("    would take: more than two changes {whole} ({})", take["trials"]));
    }
}

fn list(value: &Value) -> &[Value] {
    value.as_array().map_or(&[], Vec::as_slice)
}

fn text(value: &Value) -> &str {
    value.as_str().unwrap_or_default()
}

fn details(explanation: &Value, request: &Request, shell: &Shell) {
    let resource = request.resource.as_deref().unwrap_or("a new one");
    shell.answer(&format!("    reason      {}", text(&explanation["reason"])));
    shell.answer(&format!("    question    {}  {}  {resource}", request.subject, request.permission));
    for (at, station) in list(&explanation["way"]).iter().enumerate() {
        let label = if at == 0 { "the way" } else { "" };
        let shut = if station["shut"] == true { " |#|" } else { "" };
        let note = text(&station["note"]);
        let note =
            if note.is_empty() { String::new() } else { format!("   {}", shell.tone(Tone::Soft, note)) };
        shell.answer(&format!(
            "    {label:<10}  {:<10}  {}{shut}{note}",
            text(&station["kind"]),
            text(&station["name"])
        ));
    }
    for arrival in list(&explanation["arrivals"]) {
        shell.answer(&format!(
            "    role        {} {}   gives it: {}",
            text(&arrival["role"]),
            text(&arrival["how"]),
            text(&arrival["gives"])
        ));
        conditions(arrival, shell);
    }
    for rule in list(&explanation["rules"]) {
        let reaches = if rule["reaches"] == true { "" } else { ", but does not reach this subject here" };
        shell.answer(&format!(
            "    {:<10}  {}: {}{reaches}",
            text(&rule["effect"]),
            text(&rule["key"]),
            text(&rule["value"])
        ));
        conditions(rule, shell);
    }
    for held in list(&explanation["also-held"]) {
        shell.answer(&format!("    also holds  {}", text(held)));
    }
    for ignored in list(&explanation["ignored"]) {
        shell.answer(&format!("    ignored     {}", text(ignored)));
    }
}

fn conditions(owner: &Value, shell: &Shell) {
    for condition in list(&owner["conditions"]) {
        shell.answer(&format!(
            "        {}  {}",
            shell.tone(Tone::Soft, text(&condition["place"])),
            text(&condition["value"])
        ));
        for part in list(&condition["parts"]) {
            let reads: Vec<String> = list(&part["reads"])
                .iter()
                .map(|read| format!("{} is {}", text(&read[0]), text(&read[1])))
                .collect();
            let reads = if reads.is_empty() {
                String::new()
            } else {
                format!("   {}", shell.tone(Tone::Soft, &reads.join(", ")))
            };
            shell.answer(&format!(
                "            {:<12}  {}{reads}",
                text(&part["value"]),
                text(&part["text"])
            ));
        }
    }
}
