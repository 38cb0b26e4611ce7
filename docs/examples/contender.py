#!/usr/bin/env python3
"""A contender in another language: the 100 calmest hives, by Python's own sqlite3 module. docs/protocol.md says what is spoken."""
import json, sqlite3, sys, time

SQL = """SELECT hive.label, strain.name, avg(inspection.temper) AS calm, count(*)
FROM hive JOIN strain ON strain.id = hive.strain_id JOIN inspection ON inspection.hive_id = hive.id
GROUP BY hive.id ORDER BY calm DESC, hive.id LIMIT 100"""


def say(message):
    print('{"kampf":1,' + json.dumps(message)[1:], flush=True)


def call(connection):
    """The job: from the connection to the answer standing in Python's own form."""
    return connection.execute(SQL).fetchall()


def main():
    connection = None
    for line in sys.stdin:
        request = json.loads(line)
        if "hello" in request:
            url = request["hello"]["url"]
            connection = sqlite3.connect(f"file:{url}?mode=ro", uri=True)
            say({"ready": {"can": ["answer", "count", "time"]}})
        elif "run" in request:
            run = request["run"]
            ran = {"id": run["id"], "rows": 0}
            if run["mode"] == "answer":
                for place in range(len(run["parameters"])):
                    rows = call(connection)
                    ran["rows"] += len(rows)
                    say({"rows": {"id": run["id"], "set": place, "rows": rows}})
            elif run["mode"] == "count":
                ran["rows"] = len(call(connection))
                ran["counts"] = {"statements": 1, "round_trips": 1, "rows": ran["rows"]}
            else:
                spans, cpu = [], time.process_time_ns()
                for _ in range(run["passes"] * len(run["parameters"])):
                    start = time.perf_counter_ns()
                    for _ in range(run["calls_per_span"]):
                        ran["rows"] += len(call(connection))
                    spans.append(time.perf_counter_ns() - start)
                ran["spans_ns"], ran["cpu_ns"] = spans, time.process_time_ns() - cpu
            say({"ran": ran})
        else:
            return


main()
