#pragma once

#include "core/ua/node_id.hpp"

#include <memory>

namespace zunth::ua {

class BinaryWriter;

/// A structure held as itself inside an ExtensionObject; written in place when the object is encoded.
class HeldStructure : public Shared {
 public:
  virtual void encode(BinaryWriter& writer) const = 0;
};

/// ExtensionObject (Part 6, 5.2.2.15): a structure with the id of its encoding. What arrives stays as octets
/// until someone asks for it by type, so unknown types pass through untouched.
class ExtensionObject {
 public:
  enum class Body : std::uint8_t { None = 0, Binary = 1, Xml = 2, Held = 3 };

  ExtensionObject() = default;
  static ExtensionObject binary(NodeId encodingId, ByteString octets) {
    return ExtensionObject(std::move(encodingId), Body::Binary, std::move(octets));
  }
  static ExtensionObject xml(NodeId encodingId, XmlElement text) {
    return ExtensionObject(std::move(encodingId), Body::Xml, std::move(text));
  }
  static ExtensionObject withoutBody(NodeId encodingId) {
    return ExtensionObject(std::move(encodingId), Body::None, {});
  }
  /// Holds a structure of the standard. Defined in core/ua/structure_codec.hpp.
  template <class Structure>
  static ExtensionObject of(Structure structure);

  bool isNull() const { return encodingId_.isNull() && body_ == Body::None; }
  /// NodeId of the encoding ("ReadRequest_Encoding_DefaultBinary"), not of the data type.
  const NodeId& encodingId() const { return encodingId_; }
  Body body() const { return body_; }
  /// The body of kind Binary or Xml.
  const Octets& octets() const { return octets_; }
  const HeldStructure* held() const { return held_.get(); }
  /// True when this carries that structure of the standard, whether held or encoded.
  template <class Structure>
  bool is() const {
    return encodingId_.isNumericIn0() && encodingId_.numeric() == Structure::kBinaryId && body_ != Body::Xml;
  }
  /// The structure; BadDecodingError when the octets don't hold it. Defined in core/ua/structure_codec.hpp.
  template <class Structure>
  Result<Structure> as() const;

  /// By what they would write: two objects are equal when their encodings are.
  bool operator==(const ExtensionObject& other) const;

 private:
  ExtensionObject(NodeId id, Body body, Octets octets)
      : encodingId_(std::move(id)), body_(body), octets_(std::move(octets)) {}

  NodeId encodingId_;
  Body body_ = Body::None;
  Octets octets_;
  Ref<const HeldStructure> held_;
};

}  // namespace zunth::ua
