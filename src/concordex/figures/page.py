"""A report as one page of HTML that asks nothing of any host, and in which names from outside are texts."""

from __future__ import annotations

import base64
import hashlib
import re
from collections.abc import Iterator
from datetime import UTC, datetime
from html import escape
from typing import TYPE_CHECKING, Any

from concordex.figures.charts import in_words, svg
from concordex.unseen import in_data

if TYPE_CHECKING:
    from concordex.work.show.report import Chart, Report, ReportTable, Section

_STYLE = """
:root{color-scheme:light dark;--ink:#1f2933;--paper:#fff;--faint:#5a6673;--line:#d5dae0;--band:#f4f6f8;
--bad:#b00020;--good:#1b6e3c}
@media (prefers-color-scheme:dark){:root{--ink:#e6e9ec;--paper:#15191d;--faint:#9aa5b1;--line:#39424c;--band:#1d2328;
--bad:#ff8a80;--good:#7bd8a0}}
*{box-sizing:border-box}
body{font:16px/1.5 system-ui,"DejaVu Sans",sans-serif;color:var(--ink);background:var(--paper);margin:0 auto;
max-width:72rem;padding:1rem}
h1{font-size:1.6rem;margin:.2rem 0}
h2{font-size:1.25rem;border-top:2px solid var(--line);padding-top:1rem;margin-top:2rem}
p{margin:.4rem 0}.faint{color:var(--faint);font-size:.9rem}
nav ul{list-style:none;padding:0;display:flex;flex-wrap:wrap;gap:.3rem 1rem}
a{color:inherit}
.box{border:1px solid var(--line);border-radius:.4rem;padding:.6rem 1rem;margin:1rem 0;background:var(--band)}
.box h2{border:0;margin:0;padding:0}
.better::before{content:"better: ";color:var(--good);font-weight:bold}
.worse::before{content:"worse: ";color:var(--bad);font-weight:bold}
figure{margin:1rem 0;overflow-x:auto}
figure img{width:100%;min-width:36rem;max-width:56rem;height:auto;background:#fff;border-radius:.3rem}
.scroll{overflow-x:auto;max-height:34rem;overflow-y:auto;border:1px solid var(--line)}
table{border-collapse:collapse;width:100%;font-size:.85rem}
caption{text-align:left;font-weight:bold;padding:.3rem .5rem}
th,td{text-align:left;padding:.25rem .5rem;border-bottom:1px solid var(--line);vertical-align:top;white-space:nowrap}
td.w{white-space:normal;overflow-wrap:anywhere;min-width:16rem}
.n{text-align:right;font-variant-numeric:tabular-nums}
th button{all:unset;cursor:pointer;font-weight:bold}th button:focus-visible{outline:2px solid}
th[aria-sort=ascending] button::after{content:" \\2191"}th[aria-sort=descending] button::after{content:" \\2193"}
input{font:inherit;padding:.2rem .4rem;max-width:100%}
code{overflow-wrap:anywhere}
tr:nth-child(even) td{background:var(--band)}
@media screen and (prefers-color-scheme:dark){figure img{filter:invert(.91) hue-rotate(180deg)}}
@media print{@page{size:A4 landscape;margin:12mm}
:root{color-scheme:light;--ink:#000;--paper:#fff;--faint:#444;--line:#bbb;--band:#f4f6f8}
body{max-width:none;padding:0;font-size:10pt}nav,input,label{display:none}
.scroll{max-height:none;overflow:visible;border:0}
table{font-size:7.5pt}th,td{padding:.15rem .3rem;white-space:normal;overflow-wrap:break-word}td.w{min-width:8rem}
.n{white-space:nowrap}figure img{min-width:0;max-width:40rem}
h2{break-after:avoid}tr,figure{break-inside:avoid}thead{display:table-header-group}}
"""

#: Sorts a table by a column, by numbers where they are numbers, and filters its rows by what is typed.
_SCRIPT = """
for(const box of document.querySelectorAll('.table')){
const body=box.querySelector('tbody');
for(const button of box.querySelectorAll('th button'))button.addEventListener('click',()=>{
const th=button.parentElement,at=[...th.parentElement.children].indexOf(th);
const down=th.getAttribute('aria-sort')==='ascending';
for(const other of th.parentElement.children)other.removeAttribute('aria-sort');
th.setAttribute('aria-sort',down?'descending':'ascending');
const key=row=>row.children[at].textContent,rows=[...body.rows];
const compare=new Intl.Collator(undefined,{numeric:true}).compare;
rows.sort((a,b)=>(down?-1:1)*compare(key(a),key(b)));
body.append(...rows);});
const field=box.querySelector('input');
if(field)field.addEventListener('input',()=>{const word=field.value.toLowerCase();
for(const row of body.rows)row.hidden=!row.textContent.toLowerCase().includes(word);});}
"""

#: Signs by which a text turns round those after it (Unicode UAX 9), or that nobody sees.
_TURNING = re.compile("[\u0000-\u0008\u000b-\u001f\u007f-\u009f\u200b-\u200f\u202a-\u202e\u2060-\u206f\ufeff]")
#: No text of a table is longer; those that are so long are broken into lines; tables of more rows are filtered.
_LONGEST, _WIDE, _MANY = 400, 44, 12
#: Columns that hold a part of one.
_SHARES = ("of all", "agrees", "share")


def render(report: Report) -> bytes:
    """The page of a report."""
    return "".join(_page(report)).encode()


def _page(report: Report) -> Iterator[str]:
    made = f"{report.made.astimezone(UTC):%Y-%m-%d %H:%M} UTC"
    policy = (
        f"default-src 'none'; img-src data:; style-src 'sha256-{_hashed(_STYLE)}';"
        f" script-src 'sha256-{_hashed(_SCRIPT)}'; base-uri 'none'; form-action 'none'"
    )
    yield (
        '<!DOCTYPE html>\n<html lang="en"><head><meta charset="utf-8">'
        f'<meta http-equiv="Content-Security-Policy" content="{policy}">'
        '<meta name="viewport" content="width=device-width, initial-scale=1">'
        f"<title>The fleet, {made}</title><style>{_STYLE}</style></head><body><header>"
        f"<h1>The fleet</h1><p>{report.entries:,} devices ({_text(report.selection)}), as of {made}.</p>"
    )
    yield from (f'<p class="box">{_text(note)}</p>' for note in report.notes)
    if report.since is not None:
        since = f"{report.since:%Y-%m-%d %H:%M}"
        yield f'<section class="box" aria-labelledby="since"><h2 id="since">Since {since} UTC</h2><ul>'
        yield from (f'<li class="better">{_text(line)}</li>' for line in report.better)
        yield from (f'<li class="worse">{_text(line)}</li>' for line in report.worse)
        yield "" if report.better or report.worse else "<li>Nothing became better or worse.</li>"
        yield "</ul></section>"
    yield '</header><nav aria-label="Sections"><ul>'
    yield from (f'<li><a href="#{section.name}">{_text(section.title)}</a></li>' for section in report.sections)
    yield "</ul></nav><main>"
    for section in report.sections:
        yield from _section(section)
    yield f"</main><script>{_SCRIPT}</script></body></html>\n"


def _section(section: Section) -> Iterator[str]:
    yield f'<section aria-labelledby="{section.name}"><h2 id="{section.name}">{_text(section.title)}</h2>'
    if section.lacking:
        yield f'<p class="faint">Nothing to show: {_text(section.lacking)}.</p>'
    yield from (f"<p>{_text(line)}</p>" for line in section.words)
    for chart in section.charts:
        yield _figure(chart)
    for number, table in enumerate(section.tables):
        yield from _table(table, f"{section.name}-{number}")
    yield "</section>"


def _figure(chart: Chart) -> str:
    picture = base64.b64encode(svg(chart.sort, chart.title, chart.frame)).decode()
    words = _text(in_words(chart.title, chart.frame))
    return (
        f'<figure><img alt="{words}" src="data:image/svg+xml;base64,{picture}">'
        f'<figcaption class="faint">{_text(chart.title)}</figcaption></figure>'
    )


def _table(table: ReportTable, key: str) -> Iterator[str]:
    frame = table.frame
    if not frame.height:
        yield f'<p class="faint">{_text(table.caption)}: none.</p>'
        return
    rest = f"; the first {frame.height:,} of {table.total:,}" if table.total > frame.height else ""
    yield '<div class="table">'
    if frame.height > _MANY:
        yield f'<p><label for="{key}">Only rows with </label><input id="{key}" type="search"></p>'
    yield f'<div class="scroll" tabindex="0"><table><caption>{_text(table.caption)}{rest}</caption><thead><tr>'
    classes = [" class=n" if dtype.is_numeric() else "" for dtype in frame.dtypes]
    for name, kind in zip(frame.columns, classes, strict=True):
        yield f'<th scope="col"{kind}><button type="button">{_text(name.replace("_", " "))}</button></th>'
    yield "</tr></thead><tbody>"
    for row in frame.iter_rows():
        cells = []
        for name, value, kind in zip(frame.columns, row, classes, strict=True):
            text = _shown(value, is_share=name in _SHARES)
            cells.append(f"<td{kind or (' class=w' if len(text) > _WIDE else '')}>{_text(text)}</td>")
        yield f"<tr>{''.join(cells)}</tr>"
    yield f'</tbody></table></div><p class="faint">All of it: <code>{_text(table.command)}</code></p></div>'


def _shown(value: Any, *, is_share: bool) -> str:
    if value is None:
        return ""
    if is_share:
        return f"{value:.1%}"
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, float):
        return f"{value:.3g}" if abs(value) < 1000 else f"{value:,.0f}"
    if isinstance(value, datetime):
        return f"{value.astimezone(UTC):%Y-%m-%d %H:%M}"
    return ", ".join(map(str, value)) if isinstance(value, list) else str(value)


def _text(value: object) -> str:
    """A text as it stands: nothing in it is markup, turns others round, or is without end."""
    text = _TURNING.sub("\u00b7", in_data(str(value)))
    return escape(text if len(text) <= _LONGEST else f"{text[:_LONGEST]}\u2026", quote=True)


def _hashed(text: str) -> str:
    """By which a policy knows a style or a script (CSP Level 3, section 2.3.1)."""
    return base64.b64encode(hashlib.sha256(text.encode()).digest()).decode()
