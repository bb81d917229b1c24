//! Logs as text, of our own and of others.

use std::sync::Arc;

use zarnet_formats::nat_log::{EventKind, LogColumns, LogForm, LogNames, Noted, read_log};
use zarnet_formats::traffic::{Fault, Given};

use super::{BEGINS, read};

fn read_with(
    text: &str,
    form: &LogForm,
    names: &mut LogNames,
) -> Result<Vec<(i64, EventKind)>, Fault> {
    let (mut events, mut noted) = (Vec::new(), Noted::default());
    let given = Given::Octets(Arc::from(text.as_bytes()));
    read_log(&given, form, names, &mut noted, |event, _| events.push((event.at, event.kind)))?;
    Ok(events)
}

#[test]
fn rfc5424_s6_other_messages_and_elements_are_passed_over() {
    let text = "<134>1 2026-08-01T06:00:00Z edge nat - translation [origin ip=\"192.0.2.1\"]\
                [zarnet@32473 event=\"mapping-created\" internal=\"10.0.0.5\" external=\"203.0.113.2\" \
                colour=\"blue\"] and words\n\
                <13>1 2026-08-01T06:00:01.5+02:00 edge login - - - somebody came\n\
                this is nothing\n\
                <134>1 2026-08-01T06:00:02Z edge nat - translation \
                [zarnet@32473 event=\"mapping-created\" internal=\"10.0.0.5\"]\n";
    let (events, noted, _) = read(text.as_bytes(), &mut LogNames::default());
    assert_eq!(events.len(), 1);
    assert_eq!(events[0].at, BEGINS);
    assert_eq!((noted.other_records, noted.bad_messages, noted.bad_records), (1, 1, 1));
}

#[test]
fn a_row_that_is_a_whole_translation_is_two_events() {
    let text = "Begun;Ended;Device;Protocol;Internal;External;External_Port\n\
                2026-08-01 06:00:00Z;2026-08-01 06:01:00Z;edge;UDP;10.0.0.5:4000;203.0.113.2;50000\n\
                2026-08-01 06:00:00Z;;edge;udp;10.0.0.6:4000;203.0.113.2;50001\n";
    let events = read_with(text, &LogForm::default(), &mut LogNames::default()).unwrap();
    assert_eq!(
        events,
        [
            (BEGINS, EventKind::MappingCreated),
            (BEGINS + 60_000, EventKind::MappingEnded),
            (BEGINS, EventKind::MappingCreated)
        ]
    );
}

#[test]
fn an_export_of_other_shape_is_read_by_a_map_of_its_columns() {
    let text = "when,what,from,seen as\n1785564000,start,10.0.0.5:4000,203.0.113.2:50000\n\
                1785564060250,stop,10.0.0.5:4000,203.0.113.2:50000\n";
    let mut names = LogNames::default();
    let columns = LogColumns::parse("time=1,event=2,internal=3,external=4").unwrap();
    let form = LogForm { columns: Some(columns), device: Some(names.obtain("edge")) };
    let events = read_with(text, &form, &mut names).unwrap();
    assert_eq!(
        events,
        [(BEGINS, EventKind::MappingCreated), (BEGINS + 60_250, EventKind::MappingEnded)]
    );
}

#[test]
fn columns_that_are_wrong_or_missing_are_named() {
    let unknown = LogColumns::parse("tme=1,internal=2,external=3");
    assert_eq!(unknown, Err(Fault::UnknownColumn { name: "tme".into(), near: Some("time") }));
    assert_eq!(
        LogColumns::parse("time=1,internal=2,external=3"),
        Err(Fault::MissingColumn("event"))
    );
    assert_eq!(LogColumns::parse("begun=1,internal=2"), Err(Fault::MissingColumn("external")));
    assert!(LogColumns::parse("time=0").is_err());
    let header = read_with("time,event\n1,2\n", &LogForm::default(), &mut LogNames::default());
    assert_eq!(header, Err(Fault::MissingColumn("internal")));
}

#[test]
fn the_hour_that_comes_twice_in_autumn_is_two_hours() {
    let text = "time,event,device,internal,external\n\
                2026-10-25T02:30:00+02:00,created,edge,10.0.0.5,203.0.113.2\n\
                2026-10-25T02:30:00+01:00,ended,edge,10.0.0.5,203.0.113.2\n";
    let events = read_with(text, &LogForm::default(), &mut LogNames::default()).unwrap();
    assert_eq!(events[1].0 - events[0].0, 3_600_000);
}
