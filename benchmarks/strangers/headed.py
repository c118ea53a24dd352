"""The fleet behind views with schemas, bare lists whose pages are told in a header: run with a port."""

import sys

from data import fleet
from flask import Flask, abort, request
from flask.views import MethodView
from flask_smorest import Api, Blueprint, Page
from marshmallow import Schema, fields

FLEET = fleet()
KINDS = {bool: fields.Boolean, int: fields.Integer, str: fields.String}


class Cut(Page):
    """A page of rows in memory."""

    @property
    def item_count(self):
        return len(self.collection)


app = Flask(__name__)
app.config.update(
    API_TITLE="Quay views", API_VERSION="v1", OPENAPI_VERSION="3.0.3", OPENAPI_URL_PREFIX="/",
    OPENAPI_JSON_PATH="openapi.json",
)  # fmt: skip
api = Api(app)


@app.before_request
def let_in():
    """Ask for a name and a password (RFC 7617)."""
    known = request.authorization
    if request.path != "/openapi.json" and (not known or (known.username, known.password) != ("quay", "watch-word")):
        abort(401)


for name, rows in FLEET.items():
    schema = Schema.from_dict({member: KINDS[type(value)]() for member, value in rows[0].items()}, name=name)
    views = Blueprint(name, name, url_prefix=f"/fleet/{name}")

    def listed(self, rows=rows):
        return rows

    def one(self, number, rows=rows):
        return next((row for row in rows if row["id"] == number), None) or abort(404)

    listing = type(
        f"{name}List", (MethodView,), {"get": views.response(200, schema(many=True))(views.paginate(Cut)(listed))}
    )
    views.route("/")(listing)
    views.route("/<int:number>")(type(name, (MethodView,), {"get": views.response(200, schema)(one)}))
    api.register_blueprint(views)
app.run(port=int(sys.argv[1]))
