BEGIN TRANSACTION;
CREATE TABLE job (
	id VARCHAR NOT NULL, 
	created VARCHAR NOT NULL, 
	crate VARCHAR NOT NULL, 
	packing VARCHAR NOT NULL, 
	"into" VARCHAR, 
	estimate_low VARCHAR, 
	estimate_likely VARCHAR, 
	estimate_high VARCHAR, 
	PRIMARY KEY (id)
);
INSERT INTO "job" VALUES('lantern_quay-1','2026-11-18T09:00:00+00:00','/crates/c.crate','{"packing_list":1,"tool":"tidy-crate 0.1.0","name":"lantern_quay","format":"openusd","scene":"quay_v001.staged.usda","original":"quay_v001.usda","requests":[{"name":"main","frames":"1001-1002","cameras":[],"variants":{},"width":64,"height":36,"samples":null,"outputs":["Beauty","Matte"]}],"essentials":{"frames":{"start":1001,"end":1002,"step":1,"fps":24.0,"count":2},"up_axis":"Z","meters_per_unit":0.01,"cameras":["/Camera"],"outputs":[{"name":"Beauty","prim":"/Render/Beauty","path":"renders/quay_beauty.####.exr","format":"exr","passes":["colour"],"variables":[{"name":"colour","source":"beauty","data_type":"color3f"}],"camera":"/Camera","resolution":{"width":64,"height":36,"scale":1.0},"region":null,"colour_space":null,"compression":null,"bit_depth":null},{"name":"Matte","prim":"/Render/Matte","path":"renders/quay_matte.####.exr","format":"exr","passes":["alpha"],"variables":[{"name":"alpha","source":"alpha","data_type":"color3f"}],"camera":"/Camera","resolution":{"width":64,"height":36,"scale":1.0},"region":null,"colour_space":null,"compression":null,"bit_depth":null}],"simulations":{},"found":[],"missing":[]},"render":{"command":["{python}","-m","tidy_crate.practice.render","{scene}","--frames","{frames}","--into","{output_folder}"],"frame_done":null,"basis":"practice","name":"practice","version":"1.0"},"files":[{"path":"quay_v001.staged.usda","bytes":207,"blake3":"9d918a2451b62cb9dd05c7bb28558cf223525b5c4cd98fc6a17ee5e68d96c764","source":"staging","rewritten":true},{"path":"quay_v001.usda","bytes":847,"blake3":"5c901d90ecda0ee075a8ef024a6ef846991b9c4b29c23771714dd2f0ffd10d2c","source":"project:quay_v001.usda","rewritten":false}],"shared":[],"frame_tokens":{},"missing":[],"edits":[],"waived":[],"settings_maps":[],"rules":{"severity":{},"limits":{"samples":4096,"path_length":240,"rates_days":90,"texture_pixels":16384,"duplicate_bytes":1048576,"bucket_on_gpu":64,"bucket_on_cpu":256},"confidential":{"operators":[],"kinds":[],"places":[],"agreement":false},"naming":"renders/{output}/{scene}_{output}.####.{format}","brief":null}}','/frames','1.10','1.20','1.30');
INSERT INTO "job" VALUES('lantern_quay-12','2026-11-25T18:01:38+00:00','/crates/c.crate','{"packing_list":1,"tool":"tidy-crate 0.1.0","name":"lantern_quay","format":"openusd","scene":"quay_v001.staged.usda","original":"quay_v001.usda","requests":[{"name":"main","frames":"1001-1002","cameras":[],"variants":{},"width":64,"height":36,"samples":null,"outputs":["Beauty","Matte"]}],"essentials":{"frames":{"start":1001,"end":1002,"step":1,"fps":24.0,"count":2},"up_axis":"Z","meters_per_unit":0.01,"cameras":["/Camera"],"outputs":[{"name":"Beauty","prim":"/Render/Beauty","path":"renders/quay_beauty.####.exr","format":"exr","passes":["colour"],"variables":[{"name":"colour","source":"beauty","data_type":"color3f"}],"camera":"/Camera","resolution":{"width":64,"height":36,"scale":1.0},"region":null,"colour_space":null,"compression":null,"bit_depth":null},{"name":"Matte","prim":"/Render/Matte","path":"renders/quay_matte.####.exr","format":"exr","passes":["alpha"],"variables":[{"name":"alpha","source":"alpha","data_type":"color3f"}],"camera":"/Camera","resolution":{"width":64,"height":36,"scale":1.0},"region":null,"colour_space":null,"compression":null,"bit_depth":null}],"simulations":{},"found":[],"missing":[]},"render":{"command":["{python}","-m","tidy_crate.practice.render","{scene}","--frames","{frames}","--into","{output_folder}"],"frame_done":null,"basis":"practice","name":"practice","version":"1.0"},"files":[{"path":"quay_v001.staged.usda","bytes":207,"blake3":"9d918a2451b62cb9dd05c7bb28558cf223525b5c4cd98fc6a17ee5e68d96c764","source":"staging","rewritten":true},{"path":"quay_v001.usda","bytes":847,"blake3":"5c901d90ecda0ee075a8ef024a6ef846991b9c4b29c23771714dd2f0ffd10d2c","source":"project:quay_v001.usda","rewritten":false}],"shared":[],"frame_tokens":{},"missing":[],"edits":[],"waived":[],"settings_maps":[],"rules":{"severity":{},"limits":{"samples":4096,"path_length":240,"rates_days":90,"texture_pixels":16384,"duplicate_bytes":1048576,"bucket_on_gpu":64,"bucket_on_cpu":256},"confidential":{"operators":[],"kinds":[],"places":[],"agreement":false},"naming":"renders/{output}/{scene}_{output}.####.{format}","brief":null}}',NULL,NULL,NULL,NULL);
CREATE TABLE product (
	id INTEGER NOT NULL, 
	job_id VARCHAR NOT NULL, 
	request VARCHAR NOT NULL, 
	frame INTEGER NOT NULL, 
	tile INTEGER NOT NULL, 
	share INTEGER NOT NULL, 
	output VARCHAR NOT NULL, 
	attempt INTEGER NOT NULL, 
	path VARCHAR, 
	blake3 VARCHAR, 
	bytes INTEGER, 
	verdict VARCHAR, 
	reasons VARCHAR, 
	PRIMARY KEY (id), 
	UNIQUE (job_id, request, frame, tile, share, output), 
	FOREIGN KEY(job_id) REFERENCES job (id)
);
INSERT INTO "product" VALUES(1,'lantern_quay-1','main',1001,-1,-1,'Beauty',1,'/frames/Beauty/quay_beauty.1001.exr','abababababababababababababababababababababababababababababababab',1000,'good','[]');
INSERT INTO "product" VALUES(2,'lantern_quay-1','main',1001,-1,-1,'Matte',1,'/frames/Matte/quay_matte.1001.exr','abababababababababababababababababababababababababababababababab',1000,'good','[]');
INSERT INTO "product" VALUES(3,'lantern_quay-1','main',1002,-1,-1,'Beauty',2,'/frames/Beauty/quay_beauty.1002.exr','abababababababababababababababababababababababababababababababab',1000,'bad','["it is black all over"]');
INSERT INTO "product" VALUES(4,'lantern_quay-1','main',1002,-1,-1,'Matte',0,NULL,NULL,NULL,NULL,NULL);
INSERT INTO "product" VALUES(5,'lantern_quay-12','main',1001,-1,-1,'Beauty',0,NULL,NULL,NULL,NULL,NULL);
INSERT INTO "product" VALUES(6,'lantern_quay-12','main',1001,-1,-1,'Matte',0,NULL,NULL,NULL,NULL,NULL);
INSERT INTO "product" VALUES(7,'lantern_quay-12','main',1002,-1,-1,'Beauty',0,NULL,NULL,NULL,NULL,NULL);
INSERT INTO "product" VALUES(8,'lantern_quay-12','main',1002,-1,-1,'Matte',0,NULL,NULL,NULL,NULL,NULL);
CREATE TABLE submission (
	id INTEGER NOT NULL, 
	job_id VARCHAR NOT NULL, 
	farm VARCHAR NOT NULL, 
	card VARCHAR NOT NULL, 
	"key" VARCHAR NOT NULL, 
	"order" VARCHAR NOT NULL, 
	farm_job VARCHAR, 
	state VARCHAR NOT NULL, 
	cost VARCHAR NOT NULL, 
	currency VARCHAR NOT NULL, 
	uploaded_bytes INTEGER NOT NULL, 
	reused_bytes INTEGER NOT NULL, 
	PRIMARY KEY (id), 
	FOREIGN KEY(job_id) REFERENCES job (id)
);
INSERT INTO "submission" VALUES(1,'lantern_quay-1','practice','/farms/practice.farm.toml','kkkkkkkkkkkkkkkkkkkkkkkk','{"key":"old"}','000001','done','1.2345','EUR',100,0);
INSERT INTO "submission" VALUES(2,'lantern_quay-12','practice','/farms/practice.farm.toml','llllllllllllllllllllllll','{"key":"old"}',NULL,'sending','0','EUR',0,100);
COMMIT;
