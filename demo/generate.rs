//! Makes the demo's register: the people of the story by hand, the rest from a fixed seed.

use serde_json::{Value, json};

/// All lines of `demo/register.ndjson`.
pub fn register() -> String {
    let mut lines = story();
    crowd(&mut lines);
    let mut text = String::new();
    for line in lines {
        text.push_str(&line.to_string());
        text.push('\n');
    }
    text
}

/// The named people and things that the walk-throughs and rehearsals speak of.
fn story() -> Vec<Value> {
    vec![
        json!({"entity":"tenant:authority","attributes":{"kind":"authority"}}),
        json!({"entity":"tenant:northline","attributes":{"kind":"line"}}),
        json!({"entity":"tenant:hallfjord","attributes":{"kind":"line"}}),
        json!({"entity":"tenant:brackwater","attributes":{"kind":"forwarder"}}),
        json!({"entity":"user:maren","tenants":["authority"],"attributes":{"clearance":9,"post":"office"}}),
        json!({"entity":"user:ines","tenants":["northline"],"attributes":{"clearance":3,"post":"quay"},"relations":{"supervisor":"user:maren"}}),
        json!({"entity":"user:tomas","tenants":["northline"],"attributes":{"clearance":6,"post":"office"},"relations":{"supervisor":"user:maren"}}),
        json!({"entity":"user:ola","tenants":["brackwater"],"attributes":{"post":"office"}}),
        json!({"entity":"user:rui","tenants":["authority"],"attributes":{"post":"quay","licence-until":"2036-06-30T00:00:00Z"}}),
        json!({"entity":"user:petra","tenants":["authority"],"attributes":{"post":"office"}}),
        json!({"entity":"user:nils","tenants":["hallfjord"],"attributes":{"post":"office"}}),
        json!({"entity":"user:vera","tenants":["northline"],"attributes":{"post":"office"}}),
        json!({"entity":"user:old-hand","tenants":["authority"],"state":"suspended","attributes":{"clearance":9}}),
        json!({"entity":"service:crane-feed","tenants":["authority"],"attributes":{"feed":"crane"}}),
        json!({"entity":"group:night","members":["user:ines"]}),
        json!({"entity":"group:duty-inspectors","members":["group:night","user:tomas"]}),
        json!({"entity":"group:customs-duty","members":["group:duty-inspectors"]}),
        json!({"entity":"group:northline-desk","tenant":"northline","members":["user:vera"]}),
        json!({"entity":"vessel:kestrel","within":"tenant:northline","attributes":{"length":"182.5","flag":"PT"},"relations":{"escorted-by":"vessel:hold-fast"}}),
        json!({"entity":"voyage:v-9","within":"vessel:kestrel","attributes":{"departs":"2026-11-24T05:00:00Z"},"relations":{"berth":"berth:b-1","master":"user:sena"}}),
        json!({"entity":"manifest:m-204","within":"voyage:v-9","attributes":{"line":"NL","hazard":5,"state":"filed"},"relations":{"declarant":"user:tomas"}}),
        json!({"entity":"manifest:m-205","within":"voyage:v-9","attributes":{"line":"NL","hazard":2,"state":"filed"},"relations":{"declarant":"user:ola","reviewers":["user:petra","group:northline-desk"]}}),
        json!({"entity":"manifest:m-206","within":"voyage:v-9","attributes":{"line":"HF","hazard":1,"state":"held","held":true},"relations":{"declarant":"user:ola"}}),
        json!({"entity":"manifest:m-300","within":"voyage:v-9","detached":true,"attributes":{"line":"NL","hazard":1,"state":"filed"},"relations":{"declarant":"user:ola"}}),
        json!({"entity":"container:c-77","within":"manifest:m-205","attributes":{"weight":"18.4"}}),
        json!({"entity":"inspection:i-12","within":"container:c-77","relations":{"inspector":"user:ines"}}),
        json!({"entity":"booking:bk-31","within":"voyage:v-9","attributes":{"line":"NL"},"relations":{"agent":"user:ola"}}),
        json!({"entity":"invoice:inv-8","within":"booking:bk-31","attributes":{"amount":"4200.50"}}),
        json!({"entity":"invoice:inv-9","within":"booking:bk-31","attributes":{"amount":"18000"}}),
        json!({"entity":"vessel:grip","within":"tenant:northline","attributes":{"length":"28","flag":"PT"}}),
        json!({"entity":"vessel:hold-fast","within":"tenant:northline","attributes":{"length":"31","flag":"PT"},"relations":{"escorted-by":"vessel:grip"}}),
        json!({"entity":"user:sena","tenants":["northline"],"attributes":{"post":"quay"}}),
        json!({"entity":"user:lio","tenants":["northline"],"attributes":{"post":"quay"}}),
        json!({"entity":"user:aske","tenants":["hallfjord"],"attributes":{"post":"office"}}),
        json!({"entity":"vessel:skua","within":"tenant:hallfjord","attributes":{"length":"96","flag":"NO"}}),
        json!({"entity":"berth:b-1","within":"tenant:authority","attributes":{"depth":"14.2"}}),
        json!({"entity":"berth:b-2","within":"tenant:authority","attributes":{"depth":"9","closed":true}}),
        json!({"entity":"crane:cr-1","within":"berth:b-1","attributes":{"safe-load":40}}),
        json!({"entity":"crane-log:cl-1","within":"crane:cr-1"}),
        json!({"entity":"notice:n-1","within":"tenant:authority","attributes":{"published":true}}),
        json!({"entity":"notice:n-2","within":"tenant:authority"}),
        json!({"entity":"tariff:t-2026"}),
        json!({"grant":{"id":"g-inspect","role":"inspector","to":"group:duty-inspectors","at":"tenant:northline","until":"2036-01-01T00:00:00Z"}}),
        json!({"grant":{"id":"g-chief","role":"chief-inspector","to":"user:maren","at":"everywhere"}}),
        json!({"grant":{"id":"g-ola","role":"line-agent","to":"user:ola","at":"everywhere","values":{"line":["NL","HF"]}}}),
        json!({"grant":{"id":"g-master","role":"harbour-master","to":"user:petra","at":"tenant:authority"}}),
        json!({"grant":{"id":"g-driver","role":"crane-driver","to":"user:rui","at":"berth:b-1"}}),
        json!({"grant":{"id":"g-feed","role":"crane-feed","to":"service:crane-feed","at":"berth:b-1"}}),
        json!({"grant":{"id":"g-plan","role":"planner","to":"user:vera","at":"vessel:kestrel","from":"2026-12-01T00:00:00Z"}}),
        json!({"grant":{"id":"g-nils","role":"planner","to":"user:nils","at":"tenant:hallfjord"}}),
        json!({"grant":{"id":"g-accounts","role":"accounts","to":"group:northline-desk","at":"tenant:northline"}}),
        json!({"grant":{"id":"g-old","role":"harbour-master","to":"user:old-hand","at":"tenant:authority"}}),
        json!({"grant":{"id":"g-pilot","role":"pilot","to":"user:lio","at":"vessel:grip"}}),
        json!({"grant":{"id":"g-warden","role":"berth-warden","to":"user:rui","at":"berth:b-1"}}),
        json!({"grant":{"id":"g-declare","role":"declaring-agent","to":"user:ola","at":"vessel:kestrel"}}),
        json!({"grant":{"id":"g-812","role":"hot-works","to":"user:rui","at":"berth:b-1"}}),
        json!({"grant":{"id":"g-813","role":"hot-works","to":"group:yard-crew","at":"tenant:authority"}}),
        json!({"activation":{"id":"a-31","grant":"g-812","subject":"user:rui","session":"s-77","from":"2026-11-23T08:30:00Z","until":"2026-11-23T10:00:00Z","reason":"permit 5531"}}),
        json!({"tenant-role":{"tenant":"hallfjord","key":"desk-reader","name":"Reads at the desk","permissions":["manifest:view","manifest:open-page","voyage:view"]}}),
        json!({"grant":{"id":"g-aske","role":"hallfjord/desk-reader","to":"user:aske","at":"tenant:hallfjord"}}),
        json!({"grant":{"id":"g-audit","role":"auditor","to":"user:petra","at":"everywhere","from":"2026-01-01T00:00:00Z","until":"2026-07-01T00:00:00Z"}}),
    ]
}

/// A small generator of numbers, so that the file is the same wherever it is made.
struct Dice(u64);

impl Dice {
    fn below(&mut self, bound: usize) -> usize {
        // The multiplier and increment of Knuth's MMIX generator; the high bits are the good ones.
        self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        usize::try_from(self.0 >> 33).unwrap_or(0) % bound
    }

    fn pick<'a>(&mut self, from: &[&'a str]) -> &'a str {
        from[self.below(from.len())]
    }
}

const NAMES: [&str; 52] = [
    "ada", "aino", "alba", "anton", "arno", "bela", "bram", "carla", "celia", "dario", "edda", "elin",
    "emil", "enzo", "eva", "fenna", "filip", "gaia", "gerd", "hana", "hugo", "ida", "igor", "ilse", "jana",
    "joao", "jonas", "kaja", "karel", "lena", "lino", "luca", "mads", "mara", "milo", "mina", "nadia",
    "nuno", "oda", "oskar", "otto", "pia", "quim", "rasa", "rita", "sami", "sara", "stig", "tea", "tiago",
    "ulla", "zoe",
];

fn crowd(lines: &mut Vec<Value>) {
    let mut dice = Dice(20_261_123);
    let tenants = ["authority", "northline", "hallfjord", "brackwater"];
    for name in NAMES {
        let post = dice.pick(&["quay", "yard", "office", "gate"]);
        let clearance = 1 + dice.below(9);
        lines.push(json!({"entity":format!("user:{name}"),"tenants":[dice.pick(&tenants)],"attributes":{"clearance":clearance,"post":post},"relations":{"supervisor":"user:maren"}}));
    }
    lines.insert(0, json!({"entity":"group:yard-crew","members":NAMES[..12].iter().map(|name| format!("user:{name}")).collect::<Vec<_>>()}));
    lines.push(json!({"entity":"group:clerks","members":NAMES[12..24].iter().map(|name| format!("user:{name}")).collect::<Vec<_>>()}));
    for tenant in ["northline", "hallfjord"] {
        lines.push(
            json!({"grant":{"role":"yard-hand","to":"group:yard-crew","at":format!("tenant:{tenant}")}}),
        );
        lines.push(
            json!({"grant":{"role":"customs-clerk","to":"group:clerks","at":format!("tenant:{tenant}")}}),
        );
    }
    for (at, name) in NAMES.iter().enumerate().skip(24) {
        let role = dice.pick(&["deckhand", "planner", "inspector", "crane-driver", "auditor"]);
        let tenant = dice.pick(&tenants[..3]);
        let mut grant = json!({"role":role,"to":format!("user:{name}"),"at":format!("tenant:{tenant}")});
        if at % 4 == 0 {
            grant["until"] = format!("2026-12-{:02}T00:00:00Z", 1 + dice.below(28)).into();
        }
        lines.push(json!({ "grant": grant }));
    }
    for berth in 3..=8 {
        lines.push(json!({"entity":format!("berth:b-{berth}"),"within":"tenant:authority","attributes":{"depth":format!("{}", 7 + dice.below(9))}}));
        for crane in 0..2 {
            let id = format!("cr-{berth}{crane}");
            lines.push(json!({"entity":format!("crane:{id}"),"within":format!("berth:b-{berth}"),"attributes":{"safe-load":20 + 5 * dice.below(9)}}));
            lines.push(json!({"entity":format!("crane-log:{id}"),"within":format!("crane:{id}")}));
        }
    }
    for vessel in 0..12 {
        let (line, code) = if vessel % 2 == 0 { ("northline", "NL") } else { ("hallfjord", "HF") };
        let name = format!("vessel:{}-{vessel}", dice.pick(&["tern", "gull", "puffin", "heron", "plover"]));
        lines.push(json!({"entity":name,"within":format!("tenant:{line}"),"attributes":{"flag":dice.pick(&["PT","NO","NL","DK"])}}));
        for call in 0..3 {
            let number = 400 + vessel * 10 + call;
            let voyage = format!("voyage:v-{number}");
            lines.push(json!({"entity":voyage,"within":name,"attributes":{"departs":format!("2026-12-{:02}T0{}:00:00Z", 1 + dice.below(28), dice.below(10))}}));
            for n in 0..3 {
                let manifest = format!("manifest:m-{number}{n}");
                let declarant = format!("user:{}", dice.pick(&NAMES[24..]));
                let state = dice.pick(&["draft", "filed", "released"]);
                lines.push(json!({"entity":manifest,"within":voyage,"attributes":{"line":code,"hazard":1 + dice.below(9),"state":state},"relations":{"declarant":declarant}}));
                lines.push(json!({"entity":format!("container:c-{number}{n}"),"within":manifest,"attributes":{"weight":format!("{}.{}", 4 + dice.below(24), dice.below(10))}}));
            }
            let booking = format!("booking:bk-{number}");
            lines.push(json!({"entity":booking,"within":voyage,"attributes":{"line":code},"relations":{"agent":"user:ola"}}));
            lines.push(json!({"entity":format!("invoice:inv-{number}"),"within":booking,"attributes":{"amount":format!("{}.00", 500 + 100 * dice.below(200))}}));
        }
    }
}
