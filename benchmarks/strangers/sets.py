"""The fleet as entity sets of OData 4: run with a port."""

import sys
from wsgiref.simple_server import make_server

from data import fleet
from odatapy.data import Entity, ValueType
from odatapy.edm.csdl import (
    CsdlAbstractEdmProvider,
    CsdlEntityContainer,
    CsdlEntitySet,
    CsdlEntityType,
    CsdlProperty,
    CsdlPropertyRef,
    CsdlSchema,
)
from odatapy.server import OData
from odatapy.server.adapters import ODataWSGIApp
from odatapy.server.inmemory import InMemoryDataStore, InMemoryProcessor

KINDS = {bool: "Edm.Boolean", int: "Edm.Int32", str: "Edm.String"}
FLEET = {table.capitalize(): rows for table, rows in fleet().items()}


def called(name: str) -> str:
    """A property's name as OData services have them."""
    return "Id" if name == "id" else "".join(word.capitalize() for word in name.split("_"))


class Provider(CsdlAbstractEdmProvider):
    """The model of the service."""

    def get_schemas(self) -> list[CsdlSchema]:
        """One namespace with an entity type for each table."""
        types = [
            CsdlEntityType(
                name=table[:-1], key=[CsdlPropertyRef(name="Id")],
                properties=[
                    CsdlProperty(name=called(name), type=KINDS[type(value)], nullable=name != "id")
                    for name, value in rows[0].items()
                ],
            )
            for table, rows in FLEET.items()
        ]  # fmt: skip
        sets = [CsdlEntitySet(name=table, type=f"Quay.{table[:-1]}") for table in FLEET]
        return [
            CsdlSchema(
                namespace="Quay",
                entity_types=types,
                entity_container=CsdlEntityContainer(name="Container", entity_sets=sets),
            )
        ]


odata, store = OData.new_instance(), InMemoryDataStore()
handler = odata.create_handler(odata.create_service_metadata(Provider()))
for table, rows in FLEET.items():
    entities = []
    for row in rows:
        entity = Entity()
        for name, value in row.items():
            entity.set_property(called(name), value, ValueType.PRIMITIVE, KINDS[type(value)])
        entities.append(entity)
    store.set_entities(table, entities)
handler.register(InMemoryProcessor(store, page_size=int(sys.argv[2]) if sys.argv[2:] else 40))
make_server("127.0.0.1", int(sys.argv[1]), ODataWSGIApp(handler)).serve_forever()
