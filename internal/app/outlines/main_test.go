package outlines_test

import (
	"testing"

	"kanban/internal/store/storetest"
)

func TestMain(m *testing.M) { storetest.Main(m) }

const manifest = `<manifest xmlns="http://www.imsglobal.org/xsd/imsccv1p3/imscp_v1p1"><organizations><organization><item>
<item identifier="m1"><title>One</title><item identifier="a1" identifierref="r1"><title>Read</title></item><item identifier="deep"><title>Folder</title><item identifier="a2" identifierref="r2"><title>Check</title></item></item></item>
<item identifier="a3" identifierref="r3"><title>Alone</title></item></item></organization></organizations>
<resources><resource identifier="r1" type="webcontent"/><resource identifier="r2" type="imsqti_xmlv1p2/imscc_xmlv1p3/assessment"/><resource identifier="r3" type="assignment_xmlv1p0"/></resources></manifest>`
