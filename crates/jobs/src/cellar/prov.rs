//! A history as PROV-JSON (W3C Member Submission of 24 April 2013), for programs that know no Decanter.

use super::history::{FileOfJob, HistoryReport};
use decanter_formats::time;
use serde_json::{Map, Value, json};

/// The prefix of what this program names.
const PREFIX: &str = "decanter";

/// The document.
pub fn prov(report: &HistoryReport) -> Value {
    let mut entities = Entities::default();
    let (mut activities, mut agents) = (Map::new(), Map::new());
    let (mut used, mut made, mut by, mut from) = (Map::new(), Map::new(), Map::new(), Map::new());
    let here = FileOfJob { path: report.file.clone(), bytes: 0, sha1: report.sha1.clone() };
    for job in &report.jobs {
        let activity = format!("{PREFIX}:job-{}", job.id);
        activities.insert(
            activity.clone(),
            json!({
                "prov:startTime": moment(job.began),
                "prov:endTime": moment(job.ended),
                "prov:label": format!("decanter {}", job.command),
                "decanter:arguments": job.parameters.join(" "),
                "decanter:exitCode": { "$": job.result.to_string(), "type": "xsd:int" },
            }),
        );
        let agent = format!("{PREFIX}:program-{}", job.version);
        agents.insert(
            agent.clone(),
            json!({ "prov:type": { "$": "prov:SoftwareAgent", "type": "prov:QUALIFIED_NAME" }, "prov:label": format!("Decanter {}", job.version) }),
        );
        by.insert(format!("_:by{}", by.len()), json!({ "prov:activity": activity, "prov:agent": agent }));
        let inputs: Vec<String> = job.inputs.iter().map(|file| entities.id(file)).collect();
        for input in &inputs {
            used.insert(format!("_:used{}", used.len()), json!({ "prov:activity": activity, "prov:entity": input }));
        }
        for output in job.outputs.iter().map(|file| entities.id(file)) {
            let row = json!({ "prov:entity": output, "prov:activity": activity, "prov:time": moment(job.ended) });
            made.insert(format!("_:made{}", made.len()), row);
            for input in inputs.iter().filter(|input| **input != output) {
                let row =
                    json!({ "prov:generatedEntity": output, "prov:usedEntity": input, "prov:activity": activity });
                from.insert(format!("_:from{}", from.len()), row);
            }
        }
    }
    entities.id(&here);
    json!({
        "prefix": {
            "prov": "http://www.w3.org/ns/prov#",
            "xsd": "http://www.w3.org/2001/XMLSchema#",
            PREFIX: "urn:decanter:",
        },
        "entity": entities.map,
        "activity": activities,
        "agent": agents,
        "used": used,
        "wasGeneratedBy": made,
        "wasDerivedFrom": from,
        "wasAssociatedWith": by,
    })
}

/// Files, each once: the same bytes at the same path are one.
#[derive(Default)]
struct Entities {
    map: Map<String, Value>,
    known: Vec<(String, Option<String>)>,
}

impl Entities {
    fn id(&mut self, file: &FileOfJob) -> String {
        let key = (file.path.clone(), file.sha1.clone());
        let number = self.known.iter().position(|known| *known == key).unwrap_or_else(|| {
            self.known.push(key);
            self.known.len() - 1
        });
        let id = format!("{PREFIX}:file-{}", number + 1);
        let mut entity = Map::new();
        entity.insert("prov:label".into(), file.path.clone().into());
        entity.insert("prov:location".into(), file.path.clone().into());
        if file.bytes > 0 {
            let size = json!({ "$": file.bytes.to_string(), "type": "xsd:unsignedLong" });
            entity.insert("decanter:size".into(), size);
        }
        if let Some(sha1) = &file.sha1 {
            entity.insert("decanter:sha1".into(), sha1.clone().into());
        }
        self.map.entry(id.clone()).or_insert(Value::Object(entity));
        id
    }
}

/// A time as XML Schema has it, in UTC.
pub(super) fn moment(seconds: i64) -> String {
    format!("{}Z", time::text(seconds).replace(' ', "T"))
}
