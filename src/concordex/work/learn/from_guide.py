"""What a guide in plain text or Markdown names of an API: requests, and the words that stand beside them."""

from __future__ import annotations

import re

from concordex.insight.draft.seen import ApiSeen, ListSeen, WriteSeen

#: How many words of a guide are tried where a name in a path may be one of them.
_WORDS = 60
#: A request as guides write it, and a shape of an answer: names with what they hold.
_ASKED = re.compile(r"\b(GET|POST|PUT|PATCH|DELETE)\s+(/[^\s`\"',;)]*)")
_ALSO = re.compile(r"`(/[a-z][\w/{}.-]*)`")


def of_guide(text: str) -> ApiSeen:
    """What a guide in plain text or Markdown names: requests, and what words in code stand near them."""
    seen, common = ApiSeen(), list(dict.fromkeys(re.findall(r"[?&](\w+)=", text)))
    for paragraph in re.split(r"\n\s*\n", text):
        words = re.findall(r"`([A-Za-z][\w-]*)`", paragraph)
        paths = [(method, path) for method, path in _ASKED.findall(paragraph)]
        first = next((path for method, path in paths if method == "GET"), None)
        paths += [("GET", path) for path in _ALSO.findall(paragraph) if first]
        for method, whole in dict.fromkeys(paths):
            path, _, query = whole.partition("?")
            path = re.sub(r"/([A-Z][A-Z_]+)\b", lambda m: f"/{{{m[1].lower()}}}", path).rstrip(".")
            if method != "GET":
                seen.writes.append(WriteSeen(method=method, path=path))
            elif not any(one.path == path for one in seen.lists):
                takes = list(dict.fromkeys([*re.findall(r"(\w+)=", query), *words, *common]))
                plain = list(dict.fromkeys(re.findall(r"\b[a-z]{3,}\b", paragraph)))[:_WORDS]
                seen.lists.append(ListSeen(path=path, takes=takes, from_="the guide", words=plain))
    return seen
