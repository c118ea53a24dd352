"""The fleet as resources of JSON:API, made of tables, with a description of it: run with a port."""

import sys

from data import fleet
from flask import Flask
from flask_sqlalchemy import SQLAlchemy
from safrs import SafrsApi, SAFRSBase

db = SQLAlchemy()


class Office(SAFRSBase, db.Model):
    __tablename__ = "offices"
    id = db.Column(db.Integer, primary_key=True)
    slug, title, town = db.Column(db.String), db.Column(db.String), db.Column(db.String)


class Device(SAFRSBase, db.Model):
    __tablename__ = "devices"
    id = db.Column(db.Integer, primary_key=True)
    hostname, serial_number, mac_address = db.Column(db.String), db.Column(db.String), db.Column(db.String)
    ip_address, vendor, model_name = db.Column(db.String), db.Column(db.String), db.Column(db.String)
    device_type, firmware_version, status = db.Column(db.String), db.Column(db.String), db.Column(db.String)
    last_seen_at = db.Column(db.String)
    office_id = db.Column(db.Integer)


class Port(SAFRSBase, db.Model):
    __tablename__ = "ports"
    id = db.Column(db.Integer, primary_key=True)
    device_id = db.Column(db.Integer)
    port_name, mac = db.Column(db.String), db.Column(db.String)
    enabled = db.Column(db.Boolean)


port = int(sys.argv[1])
app = Flask("fleet")
app.config.update(SQLALCHEMY_DATABASE_URI="sqlite://", SAFRS_MAX_PAGE_LIMIT=100)
db.init_app(app)
with app.app_context():
    db.create_all()
    for model, rows in zip((Office, Device, Port), fleet().values(), strict=True):
        db.session.add_all(model(**row) for row in rows)
    db.session.commit()
    api = SafrsApi(app, host="127.0.0.1", port=port, prefix="/api")
    for model in (Office, Device, Port):
        api.expose_object(model)
app.run(port=port, threaded=False)
