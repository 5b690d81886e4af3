package api

// Pages of lists tell what they hold, so that one function can go through all of them.

// Rows are the items of the page, and the cursor of the next; nil after the last.
func (p AdvisoryPage) Rows() ([]Advisory, *string) { return p.Items, p.Next }

// Rows are the items of the page, and the cursor of the next; nil after the last.
func (p AlertPage) Rows() ([]Alert, *string) { return p.Items, p.Next }

// Rows are the items of the page, and the cursor of the next; nil after the last.
func (p ApprovalPage) Rows() ([]Approval, *string) { return p.Items, p.Next }

// Rows are the items of the page, and the cursor of the next; nil after the last.
func (p AttentionPage) Rows() ([]Attention, *string) { return p.Items, p.Next }

// Rows are the items of the page, and the cursor of the next; nil after the last.
func (p AuditPage) Rows() ([]AuditEntry, *string) { return p.Items, p.Next }

// Rows are the items of the page, and the cursor of the next; nil after the last.
func (p ChangePage) Rows() ([]Change, *string) { return p.Items, p.Next }

// Rows are the items of the page, and the cursor of the next; nil after the last.
func (p ChannelPage) Rows() ([]Channel, *string) { return p.Items, p.Next }

// Rows are the items of the page, and the cursor of the next; nil after the last.
func (p ColleaguePage) Rows() ([]Colleague, *string) { return p.Items, p.Next }

// Rows are the items of the page, and the cursor of the next; nil after the last.
func (p ComparisonPage) Rows() ([]Comparison, *string) { return p.Items, p.Next }

// Rows are the items of the page, and the cursor of the next; nil after the last.
func (p ConsentRulePage) Rows() ([]ConsentRule, *string) { return p.Items, p.Next }

// Rows are the items of the page, and the cursor of the next; nil after the last.
func (p ConsolePage) Rows() ([]Console, *string) { return p.Items, p.Next }

// Rows are the items of the page, and the cursor of the next; nil after the last.
func (p ContentPage) Rows() ([]Content, *string) { return p.Items, p.Next }

// Rows are the items of the page, and the cursor of the next; nil after the last.
func (p DeliveryPage) Rows() ([]Delivery, *string) { return p.Items, p.Next }

// Rows are the items of the page, and the cursor of the next; nil after the last.
func (p DevicePage) Rows() ([]Device, *string) { return p.Items, p.Next }

// Rows are the items of the page, and the cursor of the next; nil after the last.
func (p DeviceRunPage) Rows() ([]DeviceRun, *string) { return p.Items, p.Next }

// Rows are the items of the page, and the cursor of the next; nil after the last.
func (p EnrolmentTokenPage) Rows() ([]EnrolmentToken, *string) { return p.Items, p.Next }

// Rows are the items of the page, and the cursor of the next; nil after the last.
func (p ExposurePage) Rows() ([]DeviceExposure, *string) { return p.Items, p.Next }

// Rows are the items of the page, and the cursor of the next; nil after the last.
func (p FeedPage) Rows() ([]Feed, *string) { return p.Items, p.Next }

// Rows are the items of the page, and the cursor of the next; nil after the last.
func (p GroupPage) Rows() ([]Group, *string) { return p.Items, p.Next }

// Rows are the items of the page, and the cursor of the next; nil after the last.
func (p IdentityQuestionPage) Rows() ([]IdentityQuestion, *string) { return p.Items, p.Next }

// Rows are the items of the page, and the cursor of the next; nil after the last.
func (p JobPage) Rows() ([]Job, *string) { return p.Items, p.Next }

// Rows are the items of the page, and the cursor of the next; nil after the last.
func (p MissingUpdatePage) Rows() ([]MissingUpdate, *string) { return p.Items, p.Next }

// Rows are the items of the page, and the cursor of the next; nil after the last.
func (p OrganisationPage) Rows() ([]Organisation, *string) { return p.Items, p.Next }

// Rows are the items of the page, and the cursor of the next; nil after the last.
func (p PackagePage) Rows() ([]Package, *string) { return p.Items, p.Next }

// Rows are the items of the page, and the cursor of the next; nil after the last.
func (p PersonPage) Rows() ([]Person, *string) { return p.Items, p.Next }

// Rows are the items of the page, and the cursor of the next; nil after the last.
func (p PolicyPage) Rows() ([]Policy, *string) { return p.Items, p.Next }

// Rows are the items of the page, and the cursor of the next; nil after the last.
func (p RecordingPage) Rows() ([]Recording, *string) { return p.Items, p.Next }

// Rows are the items of the page, and the cursor of the next; nil after the last.
func (p ReportSchedulePage) Rows() ([]ReportSchedule, *string) { return p.Items, p.Next }

// Rows are the items of the page, and the cursor of the next; nil after the last.
func (p ResponseRunPage) Rows() ([]ResponseRun, *string) { return p.Items, p.Next }

// Rows are the items of the page, and the cursor of the next; nil after the last.
func (p RolloutDevicePage) Rows() ([]RolloutDevice, *string) { return p.Items, p.Next }

// Rows are the items of the page, and the cursor of the next; nil after the last.
func (p RolloutPage) Rows() ([]Rollout, *string) { return p.Items, p.Next }

// Rows are the items of the page, and the cursor of the next; nil after the last.
func (p RulePage) Rows() ([]Rule, *string) { return p.Items, p.Next }

// Rows are the items of the page, and the cursor of the next; nil after the last.
func (p RunPage) Rows() ([]Run, *string) { return p.Items, p.Next }

// Rows are the items of the page, and the cursor of the next; nil after the last.
func (p SavedQueryPage) Rows() ([]SavedQuery, *string) { return p.Items, p.Next }

// Rows are the items of the page, and the cursor of the next; nil after the last.
func (p ScriptPage) Rows() ([]Script, *string) { return p.Items, p.Next }

// Rows are the items of the page, and the cursor of the next; nil after the last.
func (p SoftwarePage) Rows() ([]Software, *string) { return p.Items, p.Next }

// Rows are the items of the page, and the cursor of the next; nil after the last.
func (p TokenPage) Rows() ([]Token, *string) { return p.Items, p.Next }

// Rows are the items of the page, and the cursor of the next; nil after the last.
func (p ToolSessionPage) Rows() ([]ToolSession, *string) { return p.Items, p.Next }

// Rows are the items of the page, and the cursor of the next; nil after the last.
func (p WeakDevicePage) Rows() ([]WeakDevice, *string) { return p.Items, p.Next }

// Rows are the items of the page, and the cursor of the next; nil after the last.
func (p WindowPage) Rows() ([]Window, *string) { return p.Items, p.Next }
