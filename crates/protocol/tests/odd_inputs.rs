//! Whatever comes over a pipe is a message, log, or answered with what is wrong. `KAMPF_CASES=1000000` tries as many.

use kampf_mangle::{Mangler, cases, try_all};
use kampf_protocol::{Received, begins_like_reply, may_be_reply, read_reply, read_request, reply_line};

const LINES: [&str; 9] = [
    r#"{"kampf":1,"ready":{"can":["answer","count","time"]}}"#,
    r#"{"kampf":1,"rows":{"id":1,"set":0,"rows":[["a",1,2.5,null,true],["b\u00e9\n",-1,1e300,null,false]]}}"#,
    r#"{"kampf":1,"ran":{"id":2,"spans_ns":[1,2,3],"cpu_ns":5,"rows":10,"counts":{"statements":1,"rows":null}}}"#,
    r#"{"kampf":1,"failed":{"reason":"no such table","out_of_memory":true}}"#,
    r#"{ "ran": {"rows": 3, "id": 7}, "kampf": 1 }"#,
    r#"{"kampf":1,"hello":{"contest":"c","contender":"p","need":{"from":"hive"},"engine":"sqlite","url":"/x","limits":{"run_ms":5}}}"#,
    r#"{"kampf":1,"run":{"id":3,"mode":"time","parameters":[[7,"x"]],"passes":2,"calls_per_span":1}}"#,
    r#"{"kampf":1,"stop":{}}"#,
    r#"{"level":"info","message":"kampf begins"}"#,
];

#[test]
fn any_line_is_a_message_log_or_answered() {
    let words =
        ["\"kampf\":1,", "\"ran\":", "\"rows\":", "\"id\":", "null", "true", "[[", "]]", "{}", "\\ud800", "'kampf'", "1.0", "\u{7}"];
    let taken = try_all(Mangler::new(&LINES, &words, 3).take(cases(20_000)), |line| {
        let _ = read_request(line);
        match read_reply(line) {
            Received::Reply(reply) => {
                // What was understood is said again so that it is understood the same.
                assert_eq!(read_reply(&reply_line(&reply)), Received::Reply(reply));
                assert!(may_be_reply(line.as_bytes()), "the pipe would have passed it over");
                true
            }
            Received::Broken(what) => {
                assert!(!what.is_empty() && may_be_reply(line.as_bytes()));
                false
            }
            Received::Log => {
                assert!(!begins_like_reply(line.as_bytes()), "it was meant for the runner");
                false
            }
        }
    });
    assert!(taken > 0);
}
