//! Explanations for people.

use crate::shell::{Shell, Tone};
use ostrog_core::decide::explain::{ConditionTold, Explanation};
use ostrog_core::decide::take::Take;
use ostrog_core::prelude::Request;

/// The answer in a line.
pub fn answer(explanation: &Explanation, supposed: usize, shell: &Shell) {
    let facts = match supposed {
        0 => String::new(),
        1 => "   (supposed: 1 fact)".to_owned(),
        many => format!("   (supposed: {many} facts)"),
    };
    shell.answer(&format!("{}  {}{facts}", shell.verdict(explanation.allowed), explanation.sentence));
}

/// What it would take, one way a line.
pub fn would_take(take: &Take, shell: &Shell) {
    for way in &take.ways {
        let words: Vec<&str> = way.iter().map(|proposal| proposal.words.as_str()).collect();
        shell.answer(&format!("    would take: {}", words.join(", and ")));
    }
    if let Some(rule) = &take.denied_by {
        shell.answer(&format!("    the rule {rule} denies it whatever roles are given"));
    } else if take.ways.is_empty() {
        let whole = if take.exhaustive { "of what was tried" } else { "of the first changes tried" };
        shell.answer(&format!("    would take: more than two changes {whole} ({})", take.trials));
    }
}

/// Every role, rule and condition that took part.
pub fn details(explanation: &Explanation, request: &Request, shell: &Shell) {
    let soft = |text: &str| match text.is_empty() {
        true => String::new(),
        false => format!("   {}", shell.tone(Tone::Soft, text)),
    };
    let resource = request.resource.as_deref().unwrap_or("a new one");
    shell.answer(&format!("    reason      {}", explanation.reason));
    shell.answer(&format!("    question    {}  {}  {resource}", request.subject, request.permission));
    for (at, station) in explanation.way.iter().enumerate() {
        let label = if at == 0 { "the way" } else { "" };
        let shut = if station.shut { " |#|" } else { "" };
        let note = soft(&station.note);
        shell.answer(&format!("    {label:<10}  {:<10}  {}{shut}{note}", station.kind, station.name));
    }
    for arrival in &explanation.arrivals {
        let (role, how, gives) = (&arrival.role, &arrival.how, &arrival.gives);
        shell.answer(&format!("    role        {role} {how}   gives it: {gives}"));
        conditions(&arrival.conditions, shell);
    }
    for rule in &explanation.rules {
        let reaches = if rule.reaches { "" } else { ", but does not reach this subject here" };
        shell.answer(&format!("    {:<10}  {}: {}{reaches}", rule.effect, rule.key, rule.value));
        conditions(&rule.conditions, shell);
    }
    for held in &explanation.also_held {
        shell.answer(&format!("    also holds  {held}"));
    }
    for ignored in &explanation.ignored {
        shell.answer(&format!("    ignored     {ignored}"));
    }
}

fn conditions(conditions: &[ConditionTold], shell: &Shell) {
    for condition in conditions {
        let place = shell.tone(Tone::Soft, &condition.place);
        shell.answer(&format!("        {place}  {}", condition.value));
        for part in &condition.parts {
            let reads: Vec<String> =
                part.reads.iter().map(|(path, was)| format!("{path} is {was}")).collect();
            let reads = match reads.is_empty() {
                true => String::new(),
                false => format!("   {}", shell.tone(Tone::Soft, &reads.join(", "))),
            };
            shell.answer(&format!("            {:<12}  {}{reads}", part.value, part.text));
        }
    }
}
