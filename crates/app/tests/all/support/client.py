"""Goes the way of an application with the client that a generator made of the document of the interface.

client.py FOLDER SERVER CONNECTION   the folder that the client was made in, the server, and the login of a database as JSON
"""

import json
import sys
import time

sys.path.insert(0, sys.argv[1])

from gonvel_client import Client, errors  # noqa: E402
from gonvel_client.api.connections import create_connection  # noqa: E402
from gonvel_client.api.connectors import create_connector, delete_connector, get_connector  # noqa: E402
from gonvel_client.api.events import watch_objects  # noqa: E402
from gonvel_client.api.records import append_records, read_records, stream_records  # noqa: E402
from gonvel_client.api.topics import create_topic, list_topics  # noqa: E402
from gonvel_client.models import (  # noqa: E402
    Connection,
    ConnectionRequestPostgreSQL,
    Connector,
    ConnectorRequest,
    DefinitionSink,
    DefinitionSinkKind,
    DeliveredTopic,
    EventLineChange,
    NewRecord,
    NewTopic,
    Order,
    Plan,
    Problem,
    Produced,
    RecordPage,
    StreamLineRecord,
    Topic,
)


def lines(client, request, cursor=None):
    """Lines of a stream; the client that was generated knows how to ask for one, and what a line is."""
    if cursor is not None:
        request["params"] = {**request.get("params", {}), "cursor": cursor}
    request["headers"] = {**request.get("headers", {}), "Accept": "application/x-ndjson"}
    with client.get_httpx_client().stream(**request) as answer:
        assert answer.status_code == 200, answer.read()
        for line in answer.iter_lines():
            yield json.loads(line)


def main():
    client = Client(base_url=sys.argv[2], raise_on_unexpected_status=True)
    weighed = NewTopic(name="bins.weighed", partitions=2)
    made = create_topic.sync(client=client, body=weighed, idempotency_key="bins.weighed")
    assert isinstance(made, Topic) and made.partitions == 2, made
    again = create_topic.sync(client=client, body=weighed, idempotency_key="bins.weighed")
    assert isinstance(again, Topic), again
    refused = create_topic.sync(client=client, body=weighed)
    assert isinstance(refused, Problem) and refused.status == 409 and refused.remedy, refused

    bins = [NewRecord(key=f"bin-{n}", value={"bin": n, "weight_kg": 10 + n}) for n in range(40)]
    produced = append_records.sync("bins.weighed", client=client, body=bins)
    assert isinstance(produced, Produced) and len(produced.records) == 40, produced

    read, cursor = [], None
    while True:
        asked = {} if cursor is None else {"cursor": cursor}
        page = read_records.sync("bins.weighed", client=client, limit=15, **asked)
        assert isinstance(page, RecordPage), page
        read += page.items
        cursor = page.next_
        if not cursor:
            break
    assert len(read) == 40, len(read)

    # cut off after each few records, and taken up again
    request = stream_records._get_kwargs("bins.weighed", from_=Order.OLDEST)
    streamed, cursor = [], None
    while len(streamed) < 40:
        for line in lines(client, dict(request), cursor):
            cursor = line["cursor"]
            if "offset" in line:
                streamed.append(StreamLineRecord.from_dict(line))
                if len(streamed) % 7 == 0 or len(streamed) == 40:
                    break
    places = {(record.partition, record.offset) for record in streamed}
    assert len(places) == len(streamed) == 40, "each once"

    login = json.loads(sys.argv[3])
    settlement = create_connection.sync(client=client, body=ConnectionRequestPostgreSQL.from_dict(login))
    assert isinstance(settlement, Connection), settlement
    rows = {
        "columns": [
            {"name": "bin", "type": "bigint", "path": ["bin"], "key": True},
            {"name": "weight_kg", "type": "bigint", "path": ["weight_kg"]},
        ]
    }
    delivered = DeliveredTopic.from_dict({"topic": "bins.weighed", "schema": "public", "table": "bins", "rows": rows})
    sink = DefinitionSink(kind=DefinitionSinkKind.SINK, connection=settlement.id, topics=[delivered])
    events = lines(client, watch_objects._get_kwargs(kinds="connector"))
    assert "anew" in next(events)
    built = create_connector.sync(client=client, body=ConnectorRequest(name="settle", definition=sink, start=True))
    assert isinstance(built, Connector), built
    # told by the stream of changes, not asked again and again
    for line in events:
        if "object" in line and line["object"]["name"] == "settle":
            now = EventLineChange.from_dict(line)
            assert now.id == str(built.id)
            counts = line["object"]["tables"][0]["counts"]
            if counts["insert"] + counts["update"] >= 40:
                break
    plan = delete_connector.sync("settle", client=client, dry_run=True)
    assert isinstance(plan, Plan) and plan.needs_confirming, plan
    delete_connector.sync("settle", client=client, confirm=plan.tag)
    deadline = time.monotonic() + 60
    while not isinstance(get_connector.sync("settle", client=client), Problem):
        assert time.monotonic() < deadline, "it is not deleted"
        time.sleep(0.2)
    topics = list_topics.sync(client=client, search="bins")
    assert [topic.name for topic in topics.items] == ["bins.weighed"], topics
    print("done")


main()
