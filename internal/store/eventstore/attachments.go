package eventstore

import (
	"context"

	"gorm.io/gorm/clause"

	"kanban/internal/store/db"
)

// StatementAttachment is the content of an attachment of statements that came through an interface.
type StatementAttachment struct {
	InterfaceID string
	SHA2        string `gorm:"column:sha2"` // of the content, in hexadecimal digits, lower case
	ContentType string
	Body        []byte
}

// KeepAttachments stores content that is not there yet: the same content is the same attachment.
func KeepAttachments(ctx context.Context, from *db.Database, all []StatementAttachment) error {
	if len(all) == 0 {
		return nil
	}
	return db.Known(from.Records(ctx).Clauses(clause.OnConflict{DoNothing: true}).Create(&all).Error,
		"storing attachments")
}

// Attachments gives the content that is there of some hashes.
func Attachments(ctx context.Context, from db.From, interfaceID string, hashes []string) (all []StatementAttachment,
	err error,
) {
	if len(hashes) == 0 {
		return nil, nil
	}
	err = from.Records(ctx).Where("interface_id = ? AND sha2 IN ?", interfaceID, hashes).Order("sha2").Find(&all).Error
	return all, db.Known(err, "reading attachments")
}
