#pragma once

#include "core/monitor/monitored_item.hpp"

namespace zunth::monitor {

/// Items with something to report, in the order in which they got it; one leaves from anywhere at once.
class ReportList {
 public:
  bool empty() const { return !first_; }
  MonitoredItem& front() const { return *first_; }
  void push(MonitoredItem& item) {
    if (item.isListed) return;
    item.isListed = true;
    item.listedBefore = last_;
    (last_ ? last_->listedAfter : first_) = &item;
    last_ = &item;
  }
  void remove(MonitoredItem& item) {
    if (!item.isListed) return;
    (item.listedBefore ? item.listedBefore->listedAfter : first_) = item.listedAfter;
    (item.listedAfter ? item.listedAfter->listedBefore : last_) = item.listedBefore;
    item.listedBefore = item.listedAfter = nullptr;
    item.isListed = false;
  }

 private:
  MonitoredItem* first_ = nullptr;
  MonitoredItem* last_ = nullptr;
};

}  // namespace zunth::monitor
