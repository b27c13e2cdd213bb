#pragma once

#include "core/model/findings.hpp"

namespace zunth::model {

/// Whether a site file is UTF-8 as all of them have to be; the first octet that isn't becomes a finding.
bool checkUtf8(const std::string& file, std::string_view text, Findings& findings);

}  // namespace zunth::model
