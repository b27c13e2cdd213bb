// JSON messages and XML values of strangers: whatever is read is written again, and reads the same.
#include "core/channel/json_message.hpp"
#include "core/ua/xml.hpp"

#include <cstdlib>
#include <sstream>

using namespace zunth;
using namespace zunth::ua;

namespace {

void readXml(std::string_view text) {
  pugi::xml_document document;
  if (!document.load_buffer(text.data(), text.size())) return;
  const auto value = variantFromXml(document.document_element());
  if (!value) return;
  pugi::xml_document again;
  toXml(again.append_child("Value"), *value);
  if (const auto* object = value->get<ExtensionObject>()) {
    if (auto xml = withXmlBody(*object)) (void)withBinaryBody(*xml);
  }
}

}  // namespace

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  const std::string_view text(reinterpret_cast<const char*>(data), size);
  if (text.starts_with('<')) {
    readXml(text);
  } else if (auto message = channel::messageFromJson(text)) {
    // What was understood can be told again.
    auto told = channel::messageToJson(message->message, message->form);
    if (told && !channel::messageFromJson(*told)) std::abort();
  }
  return 0;
}
