#!/usr/bin/env python3
"""A contender in another language: the 100 calmest hives, by Python's own sqlite3 module. docs/protocol.md says what is spoken. With
another SQL and its kinds it does another job: parameters, decimals, dates and times are handled."""
import datetime, decimal, json, sqlite3, sys, time

# Parameters stand in it as ?1, ?2 ..., in the order of the need's.
SQL = """SELECT hive.label, strain.name, avg(inspection.temper) AS calm, count(*)
FROM hive JOIN strain ON strain.id = hive.strain_id JOIN inspection ON inspection.hive_id = hive.id
GROUP BY hive.id ORDER BY calm DESC, hive.id LIMIT 100"""
KINDS = ["text", "text", "real", "integer"]
# From what SQLite hands over to what an application works with; a list comes as a JSON text of rows.
READS = {"decimal": lambda value: decimal.Decimal(str(value)), "date": datetime.date.fromisoformat,
         "timestamp": datetime.datetime.fromisoformat, "boolean": bool, "list": json.loads}


def say(message):
    print('{"kampf":1,' + json.dumps(message, default=plain)[1:], flush=True)


def plain(value):
    """A value that JSON does not know, as the protocol writes it: all digits of a decimal, a date, a timestamp in UTC."""
    return value.isoformat(" ") if isinstance(value, datetime.datetime) else value.hex() if isinstance(value, bytes) else str(value)


def call(connection, parameters):
    """The job: from the parameters to the answer standing in Python's own form. Nothing is kept for the next call."""
    makers = [READS.get(kind) for kind in KINDS]
    rows = connection.execute(SQL, parameters)
    return [tuple(make(value) if make and value is not None else value for make, value in zip(makers, row)) for row in rows]


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
                for place, parameters in enumerate(run["parameters"]):
                    rows = call(connection, parameters)
                    ran["rows"] += len(rows)
                    say({"rows": {"id": run["id"], "set": place, "rows": rows}})
            elif run["mode"] == "count":
                ran["rows"] = len(call(connection, run["parameters"][0]))
                ran["counts"] = {"statements": 1, "round_trips": 1, "rows": ran["rows"]}
            else:
                spans, cpu = [], time.process_time_ns()
                for _ in range(run["passes"]):
                    for parameters in run["parameters"]:
                        start = time.perf_counter_ns()
                        for _ in range(run["calls_per_span"]):
                            ran["rows"] += len(call(connection, parameters))
                        spans.append(time.perf_counter_ns() - start)
                ran["spans_ns"], ran["cpu_ns"] = spans, time.process_time_ns() - cpu
            say({"ran": ran})
        else:
            return


main()
