"""What an OpenAPI description, or what is read as one, says of an API."""

from __future__ import annotations

from concordex.insight.described import Described
from concordex.insight.described_sign_in import sign_in_of
from concordex.insight.draft.seen import AnswerSeen, ApiSeen, ListSeen, WriteSeen, lists
from concordex.insight.questions import question_of


def of_description(told: Described, asked_at: str = "") -> ApiSeen:
    """What a description says: its lists, by the answers that it describes, what may be written, how one signs in.

    What is asked as GraphQL is a list only where the workspace says that it is ``asked_at`` that path.
    """
    seen = ApiSeen(title=told.title, notes=list(told.notes))
    for operation in told.operations:
        if operation.deprecated:
            continue
        question = question_of({"query": operation.question}) if operation.question and asked_at else None
        if question is not None and question.reads and operation.path.partition("#")[0] == asked_at:
            if not question.needed:
                posts = {"query": operation.question, "variables": {}}
                takes = [f"variables.{name}" for name in question.variables]
                seen.lists.append(
                    ListSeen(
                        path=asked_at, posts=posts, takes=takes, called=question.fields[0], about=operation.about,
                        from_="the description",
                    )
                )  # fmt: skip
            continue
        if operation.method != "GET":
            sends = [one.name for one in operation.parameters if one.stands == "body"]
            seen.writes.append(WriteSeen(method=operation.method, path=operation.path, sends=sends))
            continue
        body = operation.returns
        takes = [one.name for one in operation.parameters if one.stands == "query"]
        listed = ListSeen(path=operation.path, takes=takes, about=operation.about, from_="the description")
        if body is not None:
            listed.answers = [AnswerSeen(parameters={}, body=body)]
            listed.records = next((path for path, _ in lists(body)), None)
        seen.lists.append(listed)
    found = sign_in_of(told)
    if found is not None:
        seen.sign_in, seen.credentials = found.how, found.credentials
        seen.sign_in_why = f"the description says so ({found.name})"
    return seen
