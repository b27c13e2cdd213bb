#!/usr/bin/env python3
"""Turns the standard's tables in this folder into C++.

    generate.py OUT

writes OUT/core/ua/generated/ (status codes, node ids, structures) and OUT/core/space/generated/ (the rows of
namespace 0). A file is only rewritten when its content changes, so that nothing is rebuilt in vain.
"""
import csv
import re
import sys
from pathlib import Path

HERE = Path(__file__).parent
HEADER = "// Made by core/ua/standard/generate.py from the standard's tables. Do not edit.\n"

BUILT_IN = {
    "Boolean": "bool", "SByte": "std::int8_t", "Byte": "std::uint8_t", "Int16": "std::int16_t",
    "UInt16": "std::uint16_t", "Int32": "std::int32_t", "UInt32": "std::uint32_t", "Int64": "std::int64_t",
    "UInt64": "std::uint64_t", "Float": "float", "Double": "double", "String": "String", "DateTime": "DateTime",
    "Guid": "Guid", "ByteString": "ByteString", "XmlElement": "XmlElement", "NodeId": "NodeId",
    "ExpandedNodeId": "ExpandedNodeId", "StatusCode": "StatusCode", "QualifiedName": "QualifiedName",
    "LocalizedText": "LocalizedText", "ExtensionObject": "ExtensionObject", "DataValue": "DataValue",
    "BaseDataType": "Variant", "DiagnosticInfo": "DiagnosticInfo",
}


def rows(name):
    """A table, with the rows of NAME_more.csv after it where there is one."""
    more = HERE / name.replace(".csv", "_more.csv")
    out = []
    for path in [HERE / name] + ([more] if more.exists() else []):
        with open(path, encoding="utf-8", newline="") as file:
            out += csv.DictReader(file)
    return out


def write(path, text):
    path.parent.mkdir(parents=True, exist_ok=True)
    text = HEADER + text
    if not path.exists() or path.read_text(encoding="utf-8") != text:
        path.write_text(text, encoding="utf-8")


def quoted(text):
    return '"' + text.replace("\\", "\\\\").replace('"', '\\"') + '"'


class Structures:
    """structures*.txt: enumerations, masks and structures with their fields, supertypes' fields first."""

    def __init__(self):
        self.enums, self.masks, self.own, self.supertype = {}, {}, {}, {}
        for name in ("structures.txt", "structures_more.txt"):
            for line in (HERE / name).read_text(encoding="utf-8").splitlines():
                self.line(line.strip())

    def line(self, line):
        if not line or line.startswith("#"):
            return
        if match := re.match(r"enum (\w+): (.*)", line):
            self.enums[match[1]] = [tuple(pair.split("=")) for pair in match[2].split()]
        elif match := re.match(r"mask (\w+) (\w+): (.*)", line):
            self.masks[match[1]] = (match[2], [tuple(pair.split("=")) for pair in match[3].split()])
        elif match := re.match(r"(\w+)(?: \(.*?\))?(?: : (\w+))?:\s*(.*)", line):
            fields = [field.split() for field in match[3].split(",") if field.strip()]
            self.own[match[1]] = [(kind, name) for kind, name in fields]
            self.supertype[match[1]] = match[2]
        else:
            sys.exit(f"structures: can't read '{line}'")

    def fields(self, name):
        above = self.fields(self.supertype[name]) if self.supertype[name] else []
        return above + self.own[name]

    def ordered(self):
        """Structures, each after those that its fields hold."""
        done, out = set(), []

        def visit(name):
            if name in done or name not in self.own:
                return
            done.add(name)
            for kind, _ in self.fields(name):
                visit(kind.removesuffix("[]"))
            out.append(name)

        for name in self.own:
            visit(name)
        return out


def status_codes(out):
    codes = rows("status_codes.csv")
    header = ["#pragma once\n", "/// The standard's StatusCodes by name (Part 6, annex A).",
              "namespace zunth::ua::status {"]
    header += [f"inline constexpr StatusCode {row['name']}{{{row['code']}u}};" for row in codes]
    header += ["}  // namespace zunth::ua::status\n"]
    write(out / "core/ua/generated/status_codes.hpp", "\n".join(header))
    table = sorted((int(row["code"], 16), row["name"]) for row in codes)
    source = ["struct StatusName { std::uint32_t code; std::string_view name; };",
              "/// In the order of the codes.", "inline constexpr StatusName kStatusNames[] = {"]
    source += [f'    {{0x{code:08X}u, "{name}"}},' for code, name in table]
    source += ["};\n"]
    write(out / "core/ua/generated/status_names.inc", "\n".join(source))


def node_ids(out, ids):
    text = ["#pragma once\n", '#include "core/ua/node_id.hpp"\n',
            "/// Identifiers of namespace 0 by symbolic name; parent and child are joined by '_'.",
            "namespace zunth::ua::id {"]
    text += [f"inline constexpr StandardId {name}{{{number}}};" for name, (number, _) in ids.items()
             if re.fullmatch(r"[A-Za-z]\w*", name)]
    text += ["}  // namespace zunth::ua::id\n"]
    write(out / "core/ua/generated/node_ids.hpp", "\n".join(text))


def structures(out, s, ids):
    text = ["#pragma once\n", '#include "core/ua/structure_codec.hpp"\n',
            "/// Structures and enumerations of the standard. Each structure lists its fields once, in eachField();",
            "/// encodings, comparison and type descriptions are derived from that list.", "namespace zunth::ua {\n"]
    for name, members in s.enums.items():
        body = ", ".join(f"{member} = {value}" for member, value in members)
        text.append(f"enum class {name} : std::int32_t {{ {body} }};")
    text.append("")
    for name, (base, members) in s.masks.items():
        body = " ".join(f"static constexpr {BUILT_IN[base]} {member} = {BUILT_IN[base]}{{1}} << {bit};" for member, bit in members)
        text.append(f"/// Bits of a {base}.\nstruct {name} {{ {body} }};")
    for name in s.ordered():
        fields = s.fields(name)
        answer = name.removesuffix("Request") + "Response"
        is_service = name.endswith("Request") and answer in s.own
        text.append(f"\nstruct {answer};" if is_service else "")
        text.append(f"struct {name} {{")
        if is_service:
            text.append(f"  using Response = {answer};")
        for kind, field in fields:
            base = kind.removesuffix("[]")
            cpp = BUILT_IN.get(base, base)
            if base not in BUILT_IN and base not in s.enums and base not in s.own:
                sys.exit(f"structures: {name}.{field} has the unknown type {base}")
            text.append(f"  {f'List<{cpp}>' if kind.endswith('[]') else cpp} {field}{{}};")
        type_id = ids.get(name, (0, ""))[0]
        binary_id = ids.get(name + "_Encoding_DefaultBinary", (0, ""))[0]
        text.append(f"  static constexpr std::string_view kName = {quoted(name)};")
        text.append(f"  static constexpr std::uint32_t kTypeId = {type_id}, kBinaryId = {binary_id}, kFieldCount = {len(fields)};")
        visits = " ".join(f"visit({quoted(field)}, self.{field});" for _, field in fields)
        text.append("  template <class Self, class Visit>")
        text.append(f"  static void eachField([[maybe_unused]] Self& self, [[maybe_unused]] Visit&& visit) {{ {visits} }}")
        text.append(f"  bool operator==(const {name}&) const = default;\n}};")
    encodable = [n for n in s.ordered() if n + "_Encoding_DefaultBinary" in ids]
    text.append("\n/// Calls `visit(std::type_identity<T>{})` with the structure of this binary encoding id; false when there is none.")
    text.append("template <class Visit>\nbool visitStructure(std::uint32_t binaryId, Visit&& visit) {\n  switch (binaryId) {")
    for name in encodable:
        text.append(f"    case {name}::kBinaryId: visit(std::type_identity<{name}>{{}}); return true;")
    text.append("    default: return false;\n  }\n}\n")
    codecs = []
    lists = {kind.removesuffix("[]") for name in s.ordered() for kind, _ in s.fields(name) if kind.endswith("[]")}
    for name in s.ordered():
        codecs.append(f"template void BinaryWriter::write<{name}>(const {name}&);")
        codecs.append(f"template void BinaryReader::read<{name}>({name}&);")
        if name in lists:
            codecs.append(f"template void BinaryWriter::write<{name}>(const List<{name}>&);")
            codecs.append(f"template void BinaryReader::read<{name}>(List<{name}>&);")
    text.append("// Made once, in structures.cpp, and not wherever they are used.")
    text += ["extern " + codec for codec in codecs]
    text.append("}  // namespace zunth::ua\n")
    write(out / "core/ua/generated/structures.hpp", "\n".join(text))
    source = ['#include "core/ua/generated/structures.hpp"\n', "namespace zunth::ua {", *codecs, "}  // namespace zunth::ua\n"]
    write(out / "core/ua/generated/structures.cpp", "\n".join(source))


def standard_name(field):
    """The name of a field as the standard writes it."""
    return field[0].upper() + field[1:]


def schemas(out, s, ids):
    """The structures as rows, for code that meets them by their ids."""
    names, enums = s.ordered(), list(s.enums)
    built_in = list(BUILT_IN)  # in the order of their numbers on the wire
    id_of = lambda name: ids.get(name, (0, ""))[0]
    text = ["// enumeration, how many members", "constexpr EnumerationRow kEnumerations[] = {"]
    text += [f"    {{{quoted(name)}, {len(s.enums[name])}}}," for name in enums]
    text += ["};", "// member, value, enumeration by enumeration", "constexpr MemberRow kMembers[] = {"]
    text += [f"    {{{quoted(member)}, {value}}}," for name in enums for member, value in s.enums[name]]
    text += ["};", "// structure, data type, binary, XML and JSON encoding, how many fields",
             "constexpr StructureRow kStructures[] = {"]
    for name in names:
        encodings = ", ".join(str(id_of(f"{name}_Encoding_Default{form}")) for form in ("Binary", "Xml", "Json"))
        text.append(f"    {{{quoted(name)}, {id_of(name)}, {encodings}, {len(s.fields(name))}}},")
    text += ["};", "// field, built-in type, row of its structure or -1, row of its enumeration or -1, value rank",
             "constexpr FieldRow kFields[] = {"]
    for name in names:
        for kind, field in s.fields(name):
            base = kind.removesuffix("[]")
            number = built_in.index(base) + 1 if base in built_in else 6 if base in enums else 22
            structure = names.index(base) if base in s.own else -1
            enumeration = enums.index(base) if base in enums else -1
            rank = 1 if kind.endswith("[]") else -1
            text.append(f"    {{{quoted(standard_name(field))}, {number}, {structure}, {enumeration}, {rank}}},")
    text += ["};\n"]
    write(out / "core/ua/generated/schema_rows.inc", "\n".join(text))


class Namespace0:
    """Collects the nodes and references of namespace 0. What the tables give no confirmed id for is left out."""

    FOLDERS = {"Root": "RootFolder", "Objects": "ObjectsFolder", "Types": "TypesFolder", "Views": "ViewsFolder",
               "ObjectTypes": "ObjectTypesFolder", "VariableTypes": "VariableTypesFolder",
               "DataTypes": "DataTypesFolder", "ReferenceTypes": "ReferenceTypesFolder",
               "EventTypes": "EventTypesFolder"}
    # Where the path of a node isn't what its symbolic name is made of.
    SYMBOLS = {"Server_ServerCapabilities_HistoryServerCapabilities": "HistoryServerCapabilities",
               "Server_ServerConfiguration": "ServerConfiguration",
               "Server_Namespaces_OPCUANamespaceUri": "OPCUANamespaceMetadata"} | {
        "Server_ServerCapabilities_RoleSet_" + role: "WellKnownRole_" + role
        for role in ("Anonymous", "AuthenticatedUser", "Observer", "Operator", "Engineer", "Supervisor",
                     "ConfigureAdmin", "SecurityAdmin")}
    # Optional children of the Server object that come with the functions they stand for.
    LATER = ("PublishSubscribe", "EstimatedReturnTime", "LocalTime", "CurrentServerId",
             "RedundantServerArray", "ServerUriArray", "ServerNetworkGroups")
    CLASS = {"Object": 1, "Variable": 2, "Method": 4, "ObjectType": 8, "VariableType": 16, "ReferenceType": 32,
             "DataType": 64}

    def __init__(self, ids, s):
        self.ids, self.s = ids, s
        self.nodes, self.references, self.arguments, self.texts, self.fields = {}, [], [], [], []
        self.missing, self.copied_methods = [], []

    def id(self, *parts):
        name = "_".join(part for part in parts)
        return self.ids.get(self.FOLDERS.get(name, name), (None, ""))[0]

    @classmethod
    def symbol(cls, path):
        """members.csv path -> symbolic name of node_ids.csv."""
        parts = path.split("/") if "://" not in path else [*path.split("/http")[0].split("/"), "OPCUANamespaceUri"]
        out = [re.sub(r"<(\w+)>", r"\1_Placeholder", part) for part in parts]
        name = "_".join(re.sub(r"[^A-Za-z0-9_]", "", part) for part in out)
        for longer, symbol in cls.SYMBOLS.items():
            if name == longer or name.startswith(longer + "_"):
                return symbol + name[len(longer):]
        return name

    def node(self, number, kind, name, data_type=None, rank=-1, abstract=False, symmetric=False, inverse=""):
        self.nodes[number] = (self.CLASS[kind], name, data_type or 0, rank, abstract, symmetric, inverse)

    def refer(self, source, kind, target):
        self.references.append((source, self.id(kind), target))

    def types(self):
        tops = {"References": "ReferenceTypes", "BaseDataType": "DataTypes", "BaseObjectType": "ObjectTypes",
                "BaseVariableType": "VariableTypes"}
        table = self.plain_types() | {row["name"]: row for row in rows("types.csv")}

        def known(name):
            return not name or (name in table and self.id(name) is not None and known(table[name]["supertype"]))

        for name, row in table.items():
            number = self.id(name)
            if not known(name):
                self.missing.append(f"{name} (supertype {row['supertype']})")
                continue
            self.node(number, row["class"], name, self.id(row["dataType"]) if row["dataType"] else None,
                      int(row["valueRank"] or -1), row["abstract"] == "yes", row["symmetric"] == "yes",
                      row["inverseName"])
            if row["supertype"]:
                self.refer(self.id(row["supertype"]), "HasSubtype", number)
            else:
                self.refer(self.id(tops[name]), "Organizes", number)
            if row["class"] == "DataType":
                self.data_type(name, number)

    def plain_types(self):
        """The direct subtypes of Structure and Enumeration, which types.csv leaves to the structure lists. Messages
        of services are no part of a server's address space."""
        found = {name: "Enumeration" for name in self.s.enums}
        found |= {name: above or "Structure" for name, above in self.s.supertype.items()}
        return {name: {"name": name, "class": "DataType", "supertype": above, "abstract": "no", "symmetric": "no",
                       "inverseName": "", "dataType": "", "valueRank": ""}
                for name, above in found.items()
                if self.ids.get(name, (0, ""))[1] == "DataType" and not re.search(r"(Request|Response|Fault)$", name)}

    def data_type(self, name, number):
        for suffix, text in (("Binary", "Default Binary"), ("Xml", "Default XML"), ("Json", "Default JSON")):
            encoding = self.id(name, "Encoding", "Default" + suffix)
            if encoding and name in self.s.own:
                self.node(encoding, "Object", text)
                self.refer(encoding, "HasTypeDefinition", self.id("DataTypeEncodingType"))
                self.refer(number, "HasEncoding", encoding)
        if name in self.s.own:
            for kind, field in self.s.fields(name):
                base = kind.removesuffix("[]")
                base = "Structure" if base == "ExtensionObject" else base
                self.fields.append((number, standard_name(field), self.id(base) or 0, 1 if kind.endswith("[]") else -1))
        members = self.s.enums.get(name) or (self.s.masks[name][1] if name in self.s.masks else None)
        if not members:
            return
        for value_name, value in members:
            self.texts.append((number, value_name, int(value)))
        for property_name, data_type in (("EnumStrings", "LocalizedText"), ("EnumValues", "EnumValueType"),
                                         ("OptionSetValues", "LocalizedText")):
            if child := self.id(name, property_name):
                self.property(number, child, property_name, data_type)

    def property(self, owner, number, name, data_type):
        self.node(number, "Variable", name, self.id(data_type), 1)
        self.refer(number, "HasTypeDefinition", self.id("PropertyType"))
        self.refer(owner, "HasProperty", number)

    def members(self):
        table = rows("members.csv")
        for root in ("Root",):
            self.node(self.id(root), "Object", root)
            self.refer(self.id(root), "HasTypeDefinition", self.id("FolderType"))
        for rule in ("Mandatory", "Optional", "OptionalPlaceholder", "MandatoryPlaceholder", "ExposesItsArray"):
            if number := self.id("ModellingRule", rule):
                self.node(number, "Object", rule)
                self.refer(number, "HasTypeDefinition", self.id("ModellingRuleType"))
        plain = [row for row in table if row["class"] not in ("Ref", "In", "Out")]
        for row in plain:
            if not (row["owner"].split("/")[0] == "Server" and row["member"] in self.LATER):
                self.member(row)
        self.refer(self.id("EventTypes"), "Organizes", self.id("BaseEventType"))
        self.complete(plain)
        for row in table:
            if row["class"] in ("In", "Out"):
                self.argument(row)
            elif row["class"] == "Ref":
                self.reference(row)
        for method, declaration in self.copied_methods:
            for row in table:
                if row["class"] in ("In", "Out") and self.symbol(row["owner"]) == declaration:
                    self.argument(row | {"owner": next(name for name, (number, _) in self.ids.items() if number == method)})

    def owner_id(self, path):
        return self.id(self.symbol(path))

    def member(self, row):
        owner = self.owner_id(row["owner"])
        if row["owner"] in ("Root", "Objects", "Types"):
            number = self.id(row["member"])
        else:
            number = self.id(self.symbol(row["owner"] + "/" + row["member"]))
        definition = self.id(row["typeDefinition"]) if row["typeDefinition"] else None
        unknown_type = row["dataType"] and self.id(row["dataType"]) not in self.nodes
        if owner not in self.nodes or number is None or unknown_type or (row["typeDefinition"] and definition not in self.nodes):
            self.missing.append(row["owner"] + "/" + row["member"])
            return
        self.node(number, row["class"], row["member"], self.id(row["dataType"]) if row["dataType"] else None,
                  int(row["valueRank"] or -1))
        self.refer(owner, row["reference"], number)
        if definition:
            self.refer(number, "HasTypeDefinition", definition)
        if row["rule"]:
            self.refer(number, "HasModellingRule", self.id("ModellingRule", row["rule"]))

    def complete(self, table):
        """Gives instances, and instance declarations of types, the mandatory children of their own types."""
        by_id = {number: name for name, (number, _) in self.ids.items()}
        members = {}
        for row in table:
            if row["rule"] == "Mandatory":
                members.setdefault(self.owner_id(row["owner"]), []).append(row)
        of = lambda kind: {target: source for source, reference, target in self.references if reference == self.id(kind)}
        supertype = of("HasSubtype")
        definition = {source: target for source, kind, target in self.references if kind == self.id("HasTypeDefinition")}
        ruled = {source for source, kind, _ in self.references if kind == self.id("HasModellingRule")}
        queue = sorted(definition)
        for number in queue:
            kind = definition[number]
            while kind:
                for row in members.get(kind, []):
                    child = self.id(by_id[number], self.symbol(row["member"]))
                    kinds = self.id(row["typeDefinition"]) if row["typeDefinition"] else None
                    if child is None or child in self.nodes or (kinds and kinds not in self.nodes):
                        continue
                    self.node(child, row["class"], row["member"], self.id(row["dataType"]) if row["dataType"] else None,
                              int(row["valueRank"] or -1))
                    self.refer(number, row["reference"], child)
                    if kinds:
                        self.refer(child, "HasTypeDefinition", kinds)
                        definition[child] = kinds
                        queue.append(child)
                    if number in ruled:
                        self.refer(child, "HasModellingRule", self.id("ModellingRule_Mandatory"))
                        ruled.add(child)
                    if row["class"] == "Method":
                        self.copied_methods.append((child, self.symbol(row["owner"] + "/" + row["member"])))
                kind = supertype.get(kind)

    def argument(self, row):
        method = self.owner_id(row["owner"])
        name = "InputArguments" if row["class"] == "In" else "OutputArguments"
        number = self.id(self.symbol(row["owner"]), name)
        if method is None or number is None or method not in self.nodes:
            self.missing.append(row["owner"] + "/" + name)
            return
        if number not in self.nodes:
            self.property(method, number, name, "Argument")
            if any(source == method and kind == self.id("HasModellingRule") for source, kind, _ in self.references):
                self.refer(number, "HasModellingRule", self.id("ModellingRule_Mandatory"))
        self.arguments.append((number, row["member"], self.id(row["dataType"]) or 0, int(row["valueRank"] or -1)))

    def reference(self, row):
        source = self.owner_id(row["owner"])
        root = row["owner"].split("/")[0]
        target = self.owner_id(root + "/" + row["member"]) or self.id(row["member"])
        if source in self.nodes and target in self.nodes:
            self.refer(source, row["reference"], target)
        else:
            self.missing.append(f"{row['owner']} -{row['reference']}-> {row['member']}")

    def emit(self, out):
        dangling = [r for r in self.references if r[1] is None or r[0] not in self.nodes or r[2] not in self.nodes]
        if dangling:
            sys.exit(f"namespace 0: references to nodes that aren't there: {dangling[:5]}")
        text = ["// id, node class, browse name, data type, value rank, abstract, symmetric, inverse name",
                "constexpr NodeRow kNodes[] = {"]
        for number, (kind, name, data_type, rank, abstract, symmetric, inverse) in sorted(self.nodes.items()):
            text.append(f"    {{{number}, {kind}, {quoted(name)}, {data_type}, {rank}, {int(abstract)}, {int(symmetric)}, {quoted(inverse)}}},")
        text += ["};", "// source, reference type, target", "constexpr ReferenceRow kReferences[] = {"]
        text += [f"    {{{a}, {b}, {c}}}," for a, b, c in self.references]
        text += ["};", "// arguments property, name, data type, value rank", "constexpr ArgumentRow kArguments[] = {"]
        text += [f"    {{{a}, {quoted(b)}, {c}, {d}}}," for a, b, c, d in self.arguments]
        text += ["};", "// data type, member of the enumeration or option set, value or bit", "constexpr MemberRow kMembers[] = {"]
        text += [f"    {{{a}, {quoted(b)}, {c}}}," for a, b, c in self.texts]
        text += ["};", "// structure, field, data type, value rank", "constexpr FieldRow kFields[] = {"]
        text += [f"    {{{a}, {quoted(b)}, {c}, {d}}}," for a, b, c, d in self.fields]
        text += ["};\n"]
        write(out / "core/space/generated/namespace0_rows.inc", "\n".join(text))


def units(out):
    text = ["// UNECE code, unit id, symbol, name", "constexpr Unit kUnits[] = {"]
    text += [f"    {{{quoted(r['code'])}, {r['unitId']}, {quoted(r['symbol'])}, {quoted(r['name'])}}}," for r in rows("units.csv")]
    text += ["};\n"]
    write(out / "core/model/generated/unit_rows.inc", "\n".join(text))


def main():
    out = Path(sys.argv[1])
    ids = {row["name"]: (int(row["id"]), row["class"]) for row in rows("node_ids.csv")}
    s = Structures()
    status_codes(out)
    node_ids(out, ids)
    structures(out, s, ids)
    schemas(out, s, ids)
    units(out)
    zero = Namespace0(ids, s)
    zero.types()
    zero.members()
    zero.emit(out)
    if "--report" in sys.argv:
        print(f"{len(zero.nodes)} nodes, {len(zero.references)} references; left out for want of an id:")
        print("\n".join(zero.missing))


if __name__ == "__main__":
    main()
