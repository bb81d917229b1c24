//! The answer of `expect` as JUnit XML, for whatever runs builds.

use std::io;

use quick_xml::Writer;
use quick_xml::events::BytesText;
use zarnet_analysis::answer::expect::{ExpectAnswer, ExpectEntry};

use super::escape::{Form, escaped};

/// The whole report of a suite.
pub fn junit(answer: &ExpectAnswer, suite: &str) -> io::Result<Vec<u8>> {
    let mut octets = b"<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n".to_vec();
    let mut xml = Writer::new_with_indent(&mut octets, b' ', 2);
    let (tests, failures) = (answer.expectations.len().to_string(), answer.failed.to_string());
    let counts = [("name", suite), ("tests", tests.as_str()), ("failures", failures.as_str())];
    let whole = std::iter::once(("id", REPORT)).chain(counts);
    let cases = |xml: &mut Writer<&mut Vec<u8>>| {
        for e in &answer.expectations {
            case(xml, suite, e)?;
        }
        Ok(())
    };
    xml.create_element("testsuites").with_attributes(whole).write_inner_content(|xml| {
        xml.create_element("testsuite")
            .with_attributes(counts)
            .write_inner_content(cases)
            .map(|_| ())
    })?;
    octets.push(b'\n');
    let text = String::from_utf8(octets).map_err(io::Error::other)?;
    Ok(escaped(&text, Form::Plain).into_bytes())
}

/// What a report is known by as one of ours.
const REPORT: &str = "zarnet-expect";

/// Whether a file is a report that was written here.
pub fn is_report(contents: &[u8]) -> bool {
    let begins = format!("<testsuites id=\"{REPORT}\"");
    let head = &contents[..contents.len().min(256)];
    head.windows(begins.len()).any(|w| w == begins.as_bytes())
}

fn case(xml: &mut Writer<&mut Vec<u8>>, suite: &str, e: &ExpectEntry) -> io::Result<()> {
    let file = e.place.as_ref().map_or("", |p| p.file.as_str());
    let line = e.place.as_ref().map(|p| p.line.to_string()).unwrap_or_default();
    let name = format!("{}: {}", e.flow, e.wanted);
    let attributes =
        [("classname", suite), ("name", name.as_str()), ("file", file), ("line", line.as_str())];
    let element = xml.create_element("testcase").with_attributes(attributes);
    if e.holds {
        return element.write_empty().map(|_| ());
    }
    let message = format!("wanted {}, got {}", e.wanted, e.got);
    let kind = e.reason.unwrap_or("other");
    let story = e.trace.join("\n");
    element
        .write_inner_content(|xml| {
            let failure = xml.create_element("failure");
            failure
                .with_attributes([("message", message.as_str()), ("type", kind)])
                .write_text_content(BytesText::new(&story))
                .map(|_| ())
        })
        .map(|_| ())
}
